// SPDX-License-Identifier: MIT
// Sums, logic, shifts, bits, multiplication and division, decimal adjustment.
#include <limits>

#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

template <Alu A, class T>
T compute(Cpu& cpu, T a, T b) {
    if constexpr (A == Alu::Add) return add<T>(cpu, a, b);
    else if constexpr (A == Alu::Adc) return add<T>(cpu, a, b, carry(cpu));
    else if constexpr (A == Alu::Sub || A == Alu::Cmp) return subtract<T>(cpu, a, b);
    else if constexpr (A == Alu::Sbb) return subtract<T>(cpu, a, b, carry(cpu));
    else {
        T result = 0;
        if constexpr (A == Alu::Or) result = a | b;
        else if constexpr (A == Alu::Xor) result = a ^ b;
        else result = a & b;
        set_logic<T>(cpu, result);
        return result;
    }
}

template <Alu A, class T, Source S, bool M>
void run_alu(Cpu& cpu, const Operation& op) {
    const T other = S == Source::Immediate ? static_cast<T>(op.immediate) : get<T>(cpu, op.reg);
    if constexpr (A == Alu::Cmp || A == Alu::Test) compute<A, T>(cpu, operand<T, M>(cpu, op), other);
    else change_operand<T, M>(cpu, op, [&](T value) { return compute<A, T>(cpu, value, other); });
}
template <Alu A, class T>
void run_alu_load(Cpu& cpu, const Operation& op) {
    const T result = compute<A, T>(cpu, get<T>(cpu, op.reg), operand<T, true>(cpu, op));
    if constexpr (A != Alu::Cmp && A != Alu::Test) set<T>(cpu, op.reg, result);
}

template <Alu A, class T>
Handler pick_alu(Source source, bool memory) {
    if (source == Source::Register)
        return memory ? run_alu<A, T, Source::Register, true> : run_alu<A, T, Source::Register, false>;
    return memory ? run_alu<A, T, Source::Immediate, true> : run_alu<A, T, Source::Immediate, false>;
}

/// Calls `choose` with a value of the type that has this size.
template <class Choose>
Handler by_size(unsigned size, const Choose& choose) {
    switch (size) {
        case 0: return choose(std::uint8_t{});
        case 1: return choose(std::uint16_t{});
        default: return choose(std::uint32_t{});
    }
}
template <class Choose>
Handler by_alu(Alu what, const Choose& choose) {
    switch (what) {
        case Alu::Add: return choose(std::integral_constant<Alu, Alu::Add>{});
        case Alu::Or: return choose(std::integral_constant<Alu, Alu::Or>{});
        case Alu::Adc: return choose(std::integral_constant<Alu, Alu::Adc>{});
        case Alu::Sbb: return choose(std::integral_constant<Alu, Alu::Sbb>{});
        case Alu::And: return choose(std::integral_constant<Alu, Alu::And>{});
        case Alu::Sub: return choose(std::integral_constant<Alu, Alu::Sub>{});
        case Alu::Xor: return choose(std::integral_constant<Alu, Alu::Xor>{});
        case Alu::Cmp: return choose(std::integral_constant<Alu, Alu::Cmp>{});
        case Alu::Test: return choose(std::integral_constant<Alu, Alu::Test>{});
    }
    return nullptr;
}

// --- one operand

template <class T>
using Twice =
    std::conditional_t<sizeof(T) == 1, std::uint16_t, std::conditional_t<sizeof(T) == 2, std::uint32_t, std::uint64_t>>;

/// AX, DX:AX, EDX:EAX.
template <class T>
Twice<T> get_pair(Cpu& cpu) {
    if constexpr (sizeof(T) == 1) return cpu.word(EAX);
    else return static_cast<Twice<T>>(static_cast<Twice<T>>(get<T>(cpu, EDX)) << bits_of<T> | get<T>(cpu, EAX));
}
template <class T>
void set_pair(Cpu& cpu, Twice<T> value) {
    if constexpr (sizeof(T) == 1) cpu.set_word(EAX, value);
    else {
        set<T>(cpu, EAX, static_cast<T>(value));
        set<T>(cpu, EDX, static_cast<T>(value >> bits_of<T>));
    }
}

/// Zero, sign, parity and adjust are undefined behind a product; they are as the low half gives them.
template <class T>
void multiply_pair(Cpu& cpu, T other, bool with_sign) {
    const T own = get<T>(cpu, sizeof(T) == 1 ? 0 : EAX);
    Twice<T> product = 0;
    bool wide = false;
    if (with_sign) {
        const std::int64_t signed_product = signed_value(own) * signed_value(other);
        product = static_cast<Twice<T>>(signed_product);
        wide = signed_product != signed_value(static_cast<T>(product));
    } else {
        product = static_cast<Twice<T>>(static_cast<Twice<T>>(own) * other);
        wide = (product >> bits_of<T>) != 0;
    }
    set_pair<T>(cpu, product);
    set_result<T>(cpu, static_cast<T>(product));
    cpu.adjust_of = 0;
    set_carries(cpu, wide, wide);
}
template <class T>
void divide_pair(Cpu& cpu, T other) {
    if (other == 0) Cpu::raise(exception::divide);
    const Twice<T> whole = get_pair<T>(cpu);
    const Twice<T> quotient = static_cast<Twice<T>>(whole / other);
    if ((quotient >> bits_of<T>) != 0) Cpu::raise(exception::divide);
    set_pair<T>(cpu, static_cast<Twice<T>>(static_cast<Twice<T>>(whole % other) << bits_of<T> | quotient));
}
template <class T>
void divide_pair_signed(Cpu& cpu, T other) {
    using Wide = std::make_signed_t<Twice<T>>;
    const auto divisor = static_cast<Wide>(signed_value(other));
    const auto whole = static_cast<Wide>(get_pair<T>(cpu));
    // The one quotient that does not even fit the double width.
    if (divisor == 0 || (divisor == -1 && whole == std::numeric_limits<Wide>::min())) Cpu::raise(exception::divide);
    const auto quotient = static_cast<Wide>(whole / divisor);
    if (quotient != signed_value(static_cast<T>(quotient))) Cpu::raise(exception::divide);
    const auto rest = static_cast<T>(whole % divisor);
    set_pair<T>(cpu, static_cast<Twice<T>>(static_cast<Twice<T>>(rest) << bits_of<T> | static_cast<T>(quotient)));
}

template <Unary U, class T, bool M>
void run_unary(Cpu& cpu, const Operation& op) {
    if constexpr (U == Unary::Inc || U == Unary::Dec) {
        change_operand<T, M>(cpu, op, [&](T value) {
            const bool kept = carry(cpu);
            const T result = U == Unary::Inc ? add<T>(cpu, value, 1) : subtract<T>(cpu, value, 1);
            set_carries(cpu, kept, overflow(cpu));
            return result;
        });
    } else if constexpr (U == Unary::Not) {
        change_operand<T, M>(cpu, op, [](T value) { return static_cast<T>(~value); });
    } else if constexpr (U == Unary::Neg) {
        change_operand<T, M>(cpu, op, [&](T value) { return subtract<T>(cpu, 0, value); });
    } else {
        const T value = operand<T, M>(cpu, op);
        if constexpr (U == Unary::Mul) multiply_pair<T>(cpu, value, false);
        else if constexpr (U == Unary::Imul) multiply_pair<T>(cpu, value, true);
        else if constexpr (U == Unary::Div) divide_pair<T>(cpu, value);
        else divide_pair_signed<T>(cpu, value);
    }
}

// --- shifts

/// The value shifted by 1 to 31, with its flags (SDM volume 2: RCL/RCR/ROL/ROR, SAL/SAR/SHL/SHR). Overflow is defined
/// for a count of one only; for others it is as that rule gives it.
template <Shift S, class T>
T shifted(Cpu& cpu, T value, unsigned count) {
    constexpr unsigned bits = bits_of<T>;
    const bool top = (value & sign_bit<T>) != 0;
    if constexpr (S == Shift::Rol || S == Shift::Ror) {
        const T result = S == Shift::Rol ? std::rotl(value, static_cast<int>(count % bits))
                                         : std::rotr(value, static_cast<int>(count % bits));
        const bool high = (result & sign_bit<T>) != 0;
        if (S == Shift::Rol) set_carries(cpu, (result & 1U) != 0, high != ((result & 1U) != 0));
        else set_carries(cpu, high, high != ((result & (sign_bit<T> >> 1U)) != 0));
        return result;
    } else if constexpr (S == Shift::Rcl || S == Shift::Rcr) {
        count %= bits + 1;
        if (count == 0) return value;
        const std::uint64_t ring = std::uint64_t{value} | std::uint64_t{carry(cpu)} << bits;
        const unsigned left = S == Shift::Rcl ? count : bits + 1 - count;
        const std::uint64_t turned = ring << left | ring >> (bits + 1 - left);
        const T result = static_cast<T>(turned);
        const bool out = (turned >> bits & 1U) != 0;
        const bool high = (result & sign_bit<T>) != 0;
        set_carries(cpu, out, S == Shift::Rcl ? high != out : high != ((result & (sign_bit<T> >> 1U)) != 0));
        return result;
    } else {
        T result = 0;
        bool out = false, over = false;
        if constexpr (S == Shift::Sar) {
            const std::int64_t wide = signed_value(value);
            result = static_cast<T>(wide >> count);
            out = (wide >> (count - 1) & 1) != 0;
        } else if constexpr (S == Shift::Shr) {
            result = static_cast<T>(std::uint64_t{value} >> count);
            out = (std::uint64_t{value} >> (count - 1) & 1U) != 0;
            over = top;
        } else {
            const std::uint64_t wide = std::uint64_t{value} << count;
            result = static_cast<T>(wide);
            out = (wide >> bits & 1U) != 0;
            over = ((result & sign_bit<T>) != 0) != out;
        }
        set_result<T>(cpu, result);
        cpu.adjust_of = 0;
        set_carries(cpu, out, over);
        return result;
    }
}

template <Shift S, class T, Count C, bool M>
void run_shift(Cpu& cpu, const Operation& op) {
    const unsigned count = C == Count::One ? 1 : C == Count::Immediate ? op.immediate & 31U : cpu.gpr[ECX] & 31U;
    change_operand<T, M>(cpu, op, [&](T value) { return count == 0 ? value : shifted<S, T>(cpu, value, count); });
}

template <Shift S, class T>
Handler pick_shift(Count count, bool memory) {
    switch (count) {
        case Count::One: return memory ? run_shift<S, T, Count::One, true> : run_shift<S, T, Count::One, false>;
        case Count::Immediate:
            return memory ? run_shift<S, T, Count::Immediate, true> : run_shift<S, T, Count::Immediate, false>;
        case Count::Cl: return memory ? run_shift<S, T, Count::Cl, true> : run_shift<S, T, Count::Cl, false>;
    }
    return nullptr;
}

template <bool Left, class T, bool ByCl, bool M>
void run_double_shift(Cpu& cpu, const Operation& op) {
    constexpr unsigned bits = bits_of<T>;
    const unsigned count = (ByCl ? cpu.gpr[ECX] : op.immediate) & 31U;
    change_operand<T, M>(cpu, op, [&](T value) {
        if (count == 0) return value;
        const T other = get<T>(cpu, op.reg);
        T result = 0;
        bool out = false;
        if constexpr (sizeof(T) == 2) {
            // Words shifted by more than 16 take their bits from both in turn; that is undefined.
            const std::uint64_t ring = std::uint64_t{value} << 32U | std::uint64_t{other} << 16U | value;
            result = static_cast<T>(Left ? ring << count >> 32U : ring >> count);
            out = (ring >> (Left ? 48 - count : count - 1) & 1U) != 0;
        } else {
            result = Left ? value << count | other >> (bits - count) : value >> count | other << (bits - count);
            out = (value >> (Left ? bits - count : count - 1) & 1U) != 0;
        }
        set_result<T>(cpu, result);
        cpu.adjust_of = 0;
        set_carries(cpu, out, ((result ^ value) & sign_bit<T>) != 0);
        return result;
    });
}

template <class T, bool Immediate, bool M>
void run_multiply(Cpu& cpu, const Operation& op) {
    const std::int64_t a = signed_value(operand<T, M>(cpu, op));
    const T b = Immediate ? static_cast<T>(op.immediate) : get<T>(cpu, op.reg);
    const std::int64_t product = a * signed_value(b);
    const T result = static_cast<T>(product);
    set_result<T>(cpu, result);
    cpu.adjust_of = 0;
    const bool wide = product != signed_value(result);
    set_carries(cpu, wide, wide);
    set<T>(cpu, op.reg, result);
}

// --- bits

template <BitTest B, class T, bool Immediate, bool M>
void run_bit_test(Cpu& cpu, const Operation& op) {
    const std::uint32_t number = Immediate ? op.immediate : std::uint32_t{get<T>(cpu, op.reg)};
    const T bit = static_cast<T>(T{1} << (number % bits_of<T>));
    const auto test = [&](T value) {
        set_carries(cpu, (value & bit) != 0, overflow(cpu));
        if constexpr (B == BitTest::Set) return static_cast<T>(value | bit);
        else if constexpr (B == BitTest::Reset) return static_cast<T>(value & static_cast<T>(~bit));
        else if constexpr (B == BitTest::Complement) return static_cast<T>(value ^ bit);
        else return value;
    };
    if constexpr (M && !Immediate) {
        // A string of bits that begins at the operand: the number may be negative.
        auto moved = op;
        const auto distance = static_cast<std::int32_t>(extended<T>(get<T>(cpu, op.reg))) >> (sizeof(T) == 2 ? 4 : 5);
        moved.displacement += static_cast<std::uint32_t>(distance) * static_cast<std::uint32_t>(sizeof(T));
        if constexpr (B == BitTest::Test) test(operand<T, true>(cpu, moved));
        else change_operand<T, true>(cpu, moved, test);
    } else if constexpr (B == BitTest::Test) {
        test(operand<T, M>(cpu, op));
    } else {
        change_operand<T, M>(cpu, op, test);
    }
}

template <bool Reverse, class T, bool M>
void run_bit_scan(Cpu& cpu, const Operation& op) {
    const T value = operand<T, M>(cpu, op);
    const bool over = overflow(cpu), out = carry(cpu);
    if (value != 0)
        set<T>(cpu, op.reg,
               static_cast<T>(Reverse ? bits_of<T> - 1 - static_cast<unsigned>(std::countl_zero(value))
                                      : static_cast<unsigned>(std::countr_zero(value))));
    cpu.zero_of = value;
    set_carries(cpu, out, over);
}

template <BitTest B, class T>
Handler pick_bit_test(bool immediate, bool memory) {
    if (immediate) return memory ? run_bit_test<B, T, true, true> : run_bit_test<B, T, true, false>;
    return memory ? run_bit_test<B, T, false, true> : run_bit_test<B, T, false, false>;
}

// --- decimal (SDM volume 2: AAA, AAS, AAD, AAM, DAA, DAS)

void decimal_adjust(Cpu& cpu, bool subtracted) {
    const std::uint8_t old = cpu.byte(0);
    const bool old_carry = carry(cpu);
    bool out = false, low = false;
    std::uint8_t al = old;
    if ((al & 0x0FU) > 9 || adjust(cpu)) {
        low = true;
        out = old_carry || (subtracted ? al < 6 : al > 0xF9);
        al = static_cast<std::uint8_t>(subtracted ? al - 6 : al + 6);
    }
    if (old > 0x99 || old_carry) {
        al = static_cast<std::uint8_t>(subtracted ? al - 0x60 : al + 0x60);
        out = true;
    }
    cpu.byte(0) = al;
    set_result<std::uint8_t>(cpu, al);
    cpu.adjust_of = low ? 0x10 : 0;
    set_carries(cpu, out, false);
}
void ascii_adjust(Cpu& cpu, bool subtracted) {
    const bool off = (cpu.byte(0) & 0x0FU) > 9 || adjust(cpu);
    if (off) cpu.set_word(EAX, static_cast<std::uint16_t>(subtracted ? cpu.word(EAX) - 0x106 : cpu.word(EAX) + 0x106));
    cpu.byte(0) &= 0x0FU;
    set_result<std::uint8_t>(cpu, cpu.byte(0));
    cpu.adjust_of = off ? 0x10 : 0;
    set_carries(cpu, off, false);
}
void run_daa(Cpu& cpu, const Operation&) { decimal_adjust(cpu, false); }
void run_das(Cpu& cpu, const Operation&) { decimal_adjust(cpu, true); }
void run_aaa(Cpu& cpu, const Operation&) { ascii_adjust(cpu, false); }
void run_aas(Cpu& cpu, const Operation&) { ascii_adjust(cpu, true); }
void run_aam(Cpu& cpu, const Operation& op) {
    const auto base = static_cast<std::uint8_t>(op.immediate);
    if (base == 0) Cpu::raise(exception::divide);
    const std::uint8_t al = cpu.byte(0);
    cpu.byte(1) = al / base;
    cpu.byte(0) = al % base;
    set_logic<std::uint8_t>(cpu, cpu.byte(0));
}
void run_aad(Cpu& cpu, const Operation& op) {
    const auto al = static_cast<std::uint8_t>(cpu.byte(0) + cpu.byte(1) * op.immediate);
    cpu.set_word(EAX, al);
    set_logic<std::uint8_t>(cpu, al);
}

// --- of the 80486

template <class T, bool M>
void run_exchange_add(Cpu& cpu, const Operation& op) {
    T old = 0;
    const T own = get<T>(cpu, op.reg);
    T result = 0;
    change_operand<T, M>(cpu, op, [&](T value) {
        old = value;
        return result = add<T>(cpu, value, own);
    });
    set<T>(cpu, op.reg, old);
    if constexpr (!M)
        if (op.reg == op.rm) set<T>(cpu, op.rm, result);
}
template <class T, bool M>
void run_compare_exchange(Cpu& cpu, const Operation& op) {
    const T wanted = get<T>(cpu, sizeof(T) == 1 ? 0 : EAX);
    const T fresh = get<T>(cpu, op.reg);
    T old = 0;
    change_operand<T, M>(cpu, op, [&](T value) {
        old = value;
        subtract<T>(cpu, wanted, value);
        return value == wanted ? fresh : value;
    });
    if (old != wanted) set<T>(cpu, sizeof(T) == 1 ? 0 : EAX, old);
}
void run_compare_exchange_8(Cpu& cpu, const Operation& op) {
    const std::uint32_t offset = offset_of(cpu, op);
    const std::uint32_t address = writable(cpu, op.segment, offset, 8);
    (void)readable(cpu, op.segment, offset, 8);
    const auto low = cpu.memory.load<std::uint32_t>(address), high = cpu.memory.load<std::uint32_t>(address + 4);
    const bool same = low == cpu.gpr[EAX] && high == cpu.gpr[EDX];
    cpu.memory.store<std::uint32_t>(address, same ? cpu.gpr[EBX] : low);
    cpu.memory.store<std::uint32_t>(address + 4, same ? cpu.gpr[ECX] : high);
    if (!same) {
        cpu.gpr[EAX] = low;
        cpu.gpr[EDX] = high;
    }
    cpu.zero_of = same ? 0 : 1;
}
void run_byte_swap(Cpu& cpu, const Operation& op) {
    const std::uint32_t v = cpu.gpr[op.rm];
    cpu.gpr[op.rm] = v << 24U | (v & 0xFF00U) << 8U | (v >> 8U & 0xFF00U) | v >> 24U;
}

}  // namespace

Handler alu(Alu what, unsigned size, Source source, bool memory) {
    return by_alu(what, [&](auto a) {
        return by_size(size, [&](auto t) { return pick_alu<decltype(a)::value, decltype(t)>(source, memory); });
    });
}
Handler alu_from_memory(Alu what, unsigned size) {
    return by_alu(what, [&](auto a) {
        return by_size(size, [](auto t) -> Handler { return run_alu_load<decltype(a)::value, decltype(t)>; });
    });
}

namespace {
template <Unary U>
Handler pick_unary(unsigned size, bool memory) {
    return by_size(size, [&](auto t) -> Handler {
        return memory ? run_unary<U, decltype(t), true> : run_unary<U, decltype(t), false>;
    });
}
}  // namespace

Handler unary(Unary what, unsigned size, bool memory) {
    switch (what) {
        case Unary::Inc: return pick_unary<Unary::Inc>(size, memory);
        case Unary::Dec: return pick_unary<Unary::Dec>(size, memory);
        case Unary::Not: return pick_unary<Unary::Not>(size, memory);
        case Unary::Neg: return pick_unary<Unary::Neg>(size, memory);
        case Unary::Mul: return pick_unary<Unary::Mul>(size, memory);
        case Unary::Imul: return pick_unary<Unary::Imul>(size, memory);
        case Unary::Div: return pick_unary<Unary::Div>(size, memory);
        case Unary::Idiv: return pick_unary<Unary::Idiv>(size, memory);
    }
    return nullptr;
}

Handler shift(Shift what, unsigned size, Count count, bool memory) {
    return by_size(size, [&](auto t) -> Handler {
        using T = decltype(t);
        switch (what) {
            case Shift::Rol: return pick_shift<Shift::Rol, T>(count, memory);
            case Shift::Ror: return pick_shift<Shift::Ror, T>(count, memory);
            case Shift::Rcl: return pick_shift<Shift::Rcl, T>(count, memory);
            case Shift::Rcr: return pick_shift<Shift::Rcr, T>(count, memory);
            case Shift::Shl:
            case Shift::Sal: return pick_shift<Shift::Shl, T>(count, memory);
            case Shift::Shr: return pick_shift<Shift::Shr, T>(count, memory);
            case Shift::Sar: return pick_shift<Shift::Sar, T>(count, memory);
        }
        return nullptr;
    });
}

namespace {
template <bool Left, class T>
Handler pick_double_shift(bool by_cl, bool memory) {
    if (by_cl) return memory ? run_double_shift<Left, T, true, true> : run_double_shift<Left, T, true, false>;
    return memory ? run_double_shift<Left, T, false, true> : run_double_shift<Left, T, false, false>;
}
}  // namespace

Handler double_shift(bool left, unsigned size, bool by_cl, bool memory) {
    if (size == 1)
        return left ? pick_double_shift<true, std::uint16_t>(by_cl, memory)
                    : pick_double_shift<false, std::uint16_t>(by_cl, memory);
    return left ? pick_double_shift<true, std::uint32_t>(by_cl, memory)
                : pick_double_shift<false, std::uint32_t>(by_cl, memory);
}

Handler multiply(unsigned size, bool immediate, bool memory) {
    if (size == 1) {
        if (immediate)
            return memory ? run_multiply<std::uint16_t, true, true> : run_multiply<std::uint16_t, true, false>;
        return memory ? run_multiply<std::uint16_t, false, true> : run_multiply<std::uint16_t, false, false>;
    }
    if (immediate) return memory ? run_multiply<std::uint32_t, true, true> : run_multiply<std::uint32_t, true, false>;
    return memory ? run_multiply<std::uint32_t, false, true> : run_multiply<std::uint32_t, false, false>;
}

Handler bit_test(BitTest what, unsigned size, bool immediate, bool memory) {
    const auto pick = [&](auto t) -> Handler {
        using T = decltype(t);
        switch (what) {
            case BitTest::Test: return pick_bit_test<BitTest::Test, T>(immediate, memory);
            case BitTest::Set: return pick_bit_test<BitTest::Set, T>(immediate, memory);
            case BitTest::Reset: return pick_bit_test<BitTest::Reset, T>(immediate, memory);
            case BitTest::Complement: return pick_bit_test<BitTest::Complement, T>(immediate, memory);
        }
        return nullptr;
    };
    return size == 1 ? pick(std::uint16_t{}) : pick(std::uint32_t{});
}
Handler bit_scan(bool reverse, unsigned size, bool memory) {
    if (size == 1) {
        if (reverse) return memory ? run_bit_scan<true, std::uint16_t, true> : run_bit_scan<true, std::uint16_t, false>;
        return memory ? run_bit_scan<false, std::uint16_t, true> : run_bit_scan<false, std::uint16_t, false>;
    }
    if (reverse) return memory ? run_bit_scan<true, std::uint32_t, true> : run_bit_scan<true, std::uint32_t, false>;
    return memory ? run_bit_scan<false, std::uint32_t, true> : run_bit_scan<false, std::uint32_t, false>;
}

Handler decimal(std::uint8_t opcode) {
    switch (opcode) {
        case 0x27: return run_daa;
        case 0x2F: return run_das;
        case 0x37: return run_aaa;
        case 0x3F: return run_aas;
        case 0xD4: return run_aam;
        default: return run_aad;
    }
}

Handler exchange_add(unsigned size, bool memory) {
    return by_size(size, [&](auto t) -> Handler {
        return memory ? run_exchange_add<decltype(t), true> : run_exchange_add<decltype(t), false>;
    });
}
Handler compare_exchange(unsigned size, bool memory) {
    return by_size(size, [&](auto t) -> Handler {
        return memory ? run_compare_exchange<decltype(t), true> : run_compare_exchange<decltype(t), false>;
    });
}
Handler compare_exchange_8(bool memory) { return memory ? run_compare_exchange_8 : undefined(); }
Handler byte_swap() { return run_byte_swap; }

}  // namespace herberge::rehearsal
