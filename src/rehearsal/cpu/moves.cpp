// SPDX-License-Identifier: MIT
// Moves, the stack, conversions, flags.
#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

template <class T, bool M>
void run_move(Cpu& cpu, const Operation& op) {
    set_operand<T, M>(cpu, op, get<T>(cpu, op.reg));
}
template <class T>
void run_move_load(Cpu& cpu, const Operation& op) {
    set<T>(cpu, op.reg, operand<T, true>(cpu, op));
}
template <class T, bool M>
void run_move_immediate(Cpu& cpu, const Operation& op) {
    set_operand<T, M>(cpu, op, static_cast<T>(op.immediate));
}
template <class From, class To, bool Signed, bool M>
void run_move_extended(Cpu& cpu, const Operation& op) {
    const From value = operand<From, M>(cpu, op);
    set<To>(cpu, op.reg, static_cast<To>(Signed ? extended(value) : std::uint32_t{value}));
}
template <unsigned Condition, class T, bool M>
void run_move_if(Cpu& cpu, const Operation& op) {
    const T value = operand<T, M>(cpu, op);
    if (holds<Condition>(cpu)) set<T>(cpu, op.reg, value);
}
template <unsigned Condition, bool M>
void run_set_if(Cpu& cpu, const Operation& op) {
    set_operand<std::uint8_t, M>(cpu, op, holds<Condition>(cpu) ? 1 : 0);
}

template <bool M>
void run_to_segment(Cpu& cpu, const Operation& op) {
    load_segment(cpu, static_cast<SegmentRegister>(op.reg), operand<std::uint16_t, M>(cpu, op));
    if (op.reg == SS) cpu.trapped = false;
}
template <class T, bool M>
void run_from_segment(Cpu& cpu, const Operation& op) {
    const std::uint16_t selector = cpu.segments[op.reg].selector;
    if constexpr (M) set_operand<std::uint16_t, true>(cpu, op, selector);
    else set<T>(cpu, op.rm, selector);
}

template <class T, bool M>
void run_exchange(Cpu& cpu, const Operation& op) {
    T old = 0;
    const T own = get<T>(cpu, op.reg);
    change_operand<T, M>(cpu, op, [&](T value) {
        old = value;
        return own;
    });
    set<T>(cpu, op.reg, old);
}
template <class T>
void run_load_address(Cpu& cpu, const Operation& op) {
    set<T>(cpu, op.reg, static_cast<T>(offset_of(cpu, op)));
}
template <class T>
void run_load_far(Cpu& cpu, const Operation& op) {
    const std::uint32_t offset = offset_of(cpu, op);
    const T value = load<T>(cpu, op.segment, offset);
    const auto selector =
        load<std::uint16_t>(cpu, op.segment, (offset + static_cast<std::uint32_t>(sizeof(T))) & op.mask);
    load_segment(cpu, static_cast<SegmentRegister>(op.second), selector);
    set<T>(cpu, op.reg, value);
}
void run_translate(Cpu& cpu, const Operation& op) {
    cpu.byte(0) = load<std::uint8_t>(cpu, op.segment, (cpu.gpr[EBX] + cpu.byte(0)) & op.mask);
}

// --- the stack

template <class T>
void run_push_register(Cpu& cpu, const Operation& op) {
    push<T>(cpu, get<T>(cpu, op.rm));
}
template <class T>
void run_pop_register(Cpu& cpu, const Operation& op) {
    set<T>(cpu, op.rm, pop<T>(cpu));
}
template <class T>
void run_push_immediate(Cpu& cpu, const Operation& op) {
    push<T>(cpu, static_cast<T>(op.immediate));
}
template <class T>
void run_push_operand(Cpu& cpu, const Operation& op) {
    push<T>(cpu, operand<T, true>(cpu, op));
}
/// An address that is made of ESP counts from where it stands once the value is taken off.
template <class T, bool M>
void run_pop_operand(Cpu& cpu, const Operation& op) {
    const std::uint32_t before = cpu.gpr[ESP];
    const T value = pop<T>(cpu);
    try {
        set_operand<T, M>(cpu, op, value);
    } catch (const CpuFault&) {
        cpu.gpr[ESP] = before;
        throw;
    }
}
template <class T>
void run_push_segment(Cpu& cpu, const Operation& op) {
    // A 32-bit push of a segment register writes its lower half only.
    const std::uint32_t to = (stack_pointer(cpu) - static_cast<std::uint32_t>(sizeof(T))) & stack_mask(cpu);
    store<std::uint16_t>(cpu, SS, to, cpu.segments[op.reg].selector);
    set_stack_pointer(cpu, to);
}
template <class T>
void run_pop_segment(Cpu& cpu, const Operation& op) {
    const auto selector = peek<std::uint16_t>(cpu);
    const std::uint32_t after = stack_pointer(cpu) + static_cast<std::uint32_t>(sizeof(T));
    const std::uint32_t mask = stack_mask(cpu);
    load_segment(cpu, static_cast<SegmentRegister>(op.reg), selector);
    if (op.reg == SS) cpu.trapped = false;
    cpu.gpr[ESP] = (cpu.gpr[ESP] & ~mask) | (after & mask);
}
template <class T>
void run_push_all(Cpu& cpu, const Operation&) {
    const std::uint32_t top = stack_pointer(cpu), mask = stack_mask(cpu);
    constexpr auto size = static_cast<std::uint32_t>(sizeof(T));
    // All or nothing: the last one is the first that may not fit.
    (void)writable(cpu, SS, (top - 8 * size) & mask, size);
    for (std::uint32_t i = 0; i < 8; ++i) (void)writable(cpu, SS, (top - (i + 1) * size) & mask, size);
    for (std::uint32_t i = 0; i < 8; ++i) store<T>(cpu, SS, (top - (i + 1) * size) & mask, get<T>(cpu, i));
    set_stack_pointer(cpu, top - 8 * size);
}
template <class T>
void run_pop_all(Cpu& cpu, const Operation&) {
    constexpr auto size = static_cast<std::uint32_t>(sizeof(T));
    std::array<T, 8> values{};
    for (std::uint32_t i = 0; i < 8; ++i) values[7 - i] = peek<T>(cpu, i * size);
    for (std::uint32_t i = 0; i < 8; ++i)
        if (i != ESP) set<T>(cpu, i, values[i]);
    set_stack_pointer(cpu, stack_pointer(cpu) + 8 * size);
}
template <class T>
void run_push_flags(Cpu& cpu, const Operation&) {
    push<T>(cpu, static_cast<T>(cpu.eflags() & ~(flag::resume | flag::virtual_8086)));
}
template <class T>
void run_pop_flags(Cpu& cpu, const Operation&) {
    const std::uint32_t kept = sizeof(T) == 2 ? 0xFFFF0000U : flag::resume | flag::virtual_8086;
    const std::uint32_t value = pop<T>(cpu);
    cpu.set_eflags((cpu.eflags() & kept) | (value & ~kept));
    if ((cpu.other_flags & flag::trap) != 0) cpu.leave |= Cpu::turned;
}
template <class T>
void run_enter(Cpu& cpu, const Operation& op) {
    const std::uint32_t mask = stack_mask(cpu);
    constexpr auto size = static_cast<std::uint32_t>(sizeof(T));
    const unsigned level = op.second & 31U;
    const std::uint32_t before = cpu.gpr[ESP];
    try {
        push<T>(cpu, get<T>(cpu, EBP));
        const std::uint32_t frame = cpu.gpr[ESP];
        std::uint32_t from = cpu.gpr[EBP] & mask;
        for (unsigned i = 1; i < level; ++i) {
            from = (from - size) & mask;
            push<T>(cpu, load<T>(cpu, SS, from));
        }
        if (level > 0) push<T>(cpu, static_cast<T>(frame));
        (void)writable(cpu, SS, (stack_pointer(cpu) - op.immediate) & mask, 1);
        set_stack_pointer(cpu, stack_pointer(cpu) - op.immediate);
        // By the stack's width, whatever the operand's.
        cpu.gpr[EBP] = (cpu.gpr[EBP] & ~mask) | (frame & mask);
    } catch (const CpuFault&) {
        cpu.gpr[ESP] = before;
        throw;
    }
}
template <class T>
void run_leave(Cpu& cpu, const Operation&) {
    const std::uint32_t mask = stack_mask(cpu);
    const T value = load<T>(cpu, SS, cpu.gpr[EBP] & mask);
    set_stack_pointer(cpu, cpu.gpr[EBP] + static_cast<std::uint32_t>(sizeof(T)));
    set<T>(cpu, EBP, value);
}

// --- conversions and flags

void run_cbw(Cpu& cpu, const Operation&) { cpu.set_word(EAX, static_cast<std::uint16_t>(extended(cpu.byte(0)))); }
void run_cwde(Cpu& cpu, const Operation&) { cpu.gpr[EAX] = extended(cpu.word(EAX)); }
void run_cwd(Cpu& cpu, const Operation&) { cpu.set_word(EDX, (cpu.word(EAX) & 0x8000U) != 0 ? 0xFFFF : 0); }
void run_cdq(Cpu& cpu, const Operation&) { cpu.gpr[EDX] = (cpu.gpr[EAX] >> 31U) != 0 ? 0xFFFFFFFFU : 0; }

void run_sahf(Cpu& cpu, const Operation&) {
    constexpr std::uint32_t low = flag::arithmetic & 0xFFU;
    cpu.set_eflags((cpu.eflags() & ~low) | (cpu.byte(1) & low));
}
void run_lahf(Cpu& cpu, const Operation&) { cpu.byte(1) = static_cast<std::uint8_t>(cpu.eflags()); }
void run_salc(Cpu& cpu, const Operation&) { cpu.byte(0) = carry(cpu) ? 0xFF : 0; }
void run_cmc(Cpu& cpu, const Operation&) { set_carries(cpu, !carry(cpu), overflow(cpu)); }
void run_clc(Cpu& cpu, const Operation&) { set_carries(cpu, false, overflow(cpu)); }
void run_stc(Cpu& cpu, const Operation&) { set_carries(cpu, true, overflow(cpu)); }
void run_cli(Cpu& cpu, const Operation&) { cpu.other_flags &= ~flag::interrupt; }
void run_sti(Cpu& cpu, const Operation&) { cpu.other_flags |= flag::interrupt; }
void run_cld(Cpu& cpu, const Operation&) { cpu.other_flags &= ~flag::direction; }
void run_std(Cpu& cpu, const Operation&) { cpu.other_flags |= flag::direction; }

template <template <unsigned> class Pick, std::size_t... I>
constexpr std::array<Handler, 16> sixteen(std::index_sequence<I...> /*numbers*/) {
    return {Pick<I>::handler...};
}
template <unsigned C>
struct SetRegister {
    static constexpr Handler handler = run_set_if<C, false>;
};
template <unsigned C>
struct SetMemory {
    static constexpr Handler handler = run_set_if<C, true>;
};
template <unsigned C>
struct MoveWordRegister {
    static constexpr Handler handler = run_move_if<C, std::uint16_t, false>;
};
template <unsigned C>
struct MoveWordMemory {
    static constexpr Handler handler = run_move_if<C, std::uint16_t, true>;
};
template <unsigned C>
struct MoveDoubleRegister {
    static constexpr Handler handler = run_move_if<C, std::uint32_t, false>;
};
template <unsigned C>
struct MoveDoubleMemory {
    static constexpr Handler handler = run_move_if<C, std::uint32_t, true>;
};
constexpr std::make_index_sequence<16> all_conditions;

}  // namespace

Handler move(unsigned size, bool memory) {
    if (size == 0) return memory ? run_move<std::uint8_t, true> : run_move<std::uint8_t, false>;
    if (size == 1) return memory ? run_move<std::uint16_t, true> : run_move<std::uint16_t, false>;
    return memory ? run_move<std::uint32_t, true> : run_move<std::uint32_t, false>;
}
Handler move_load(unsigned size) {
    return size == 0   ? run_move_load<std::uint8_t>
           : size == 1 ? run_move_load<std::uint16_t>
                       : run_move_load<std::uint32_t>;
}
Handler move_immediate(unsigned size, bool memory) {
    if (size == 0) return memory ? run_move_immediate<std::uint8_t, true> : run_move_immediate<std::uint8_t, false>;
    if (size == 1) return memory ? run_move_immediate<std::uint16_t, true> : run_move_immediate<std::uint16_t, false>;
    return memory ? run_move_immediate<std::uint32_t, true> : run_move_immediate<std::uint32_t, false>;
}

namespace {
template <class From, class To>
Handler pick_extended(bool with_sign, bool memory) {
    if (with_sign) return memory ? run_move_extended<From, To, true, true> : run_move_extended<From, To, true, false>;
    return memory ? run_move_extended<From, To, false, true> : run_move_extended<From, To, false, false>;
}
}  // namespace

Handler move_extended(unsigned from, unsigned to, bool with_sign, bool memory) {
    if (from == 0)
        return to == 1 ? pick_extended<std::uint8_t, std::uint16_t>(with_sign, memory)
                       : pick_extended<std::uint8_t, std::uint32_t>(with_sign, memory);
    return to == 1 ? pick_extended<std::uint16_t, std::uint16_t>(with_sign, memory)
                   : pick_extended<std::uint16_t, std::uint32_t>(with_sign, memory);
}
Handler move_if(unsigned condition, unsigned size, bool memory) {
    static constexpr auto word_register = sixteen<MoveWordRegister>(all_conditions);
    static constexpr auto word_memory = sixteen<MoveWordMemory>(all_conditions);
    static constexpr auto double_register = sixteen<MoveDoubleRegister>(all_conditions);
    static constexpr auto double_memory = sixteen<MoveDoubleMemory>(all_conditions);
    if (size == 1) return (memory ? word_memory : word_register)[condition];
    return (memory ? double_memory : double_register)[condition];
}
Handler set_if(unsigned condition, bool memory) {
    static constexpr auto of_register = sixteen<SetRegister>(all_conditions);
    static constexpr auto of_memory = sixteen<SetMemory>(all_conditions);
    return (memory ? of_memory : of_register)[condition];
}
Handler move_segment(bool to_segment, unsigned size, bool memory) {
    if (to_segment) return memory ? run_to_segment<true> : run_to_segment<false>;
    if (memory) return run_from_segment<std::uint16_t, true>;
    return size == 1 ? run_from_segment<std::uint16_t, false> : run_from_segment<std::uint32_t, false>;
}
Handler exchange(unsigned size, bool memory) {
    if (size == 0) return memory ? run_exchange<std::uint8_t, true> : run_exchange<std::uint8_t, false>;
    if (size == 1) return memory ? run_exchange<std::uint16_t, true> : run_exchange<std::uint16_t, false>;
    return memory ? run_exchange<std::uint32_t, true> : run_exchange<std::uint32_t, false>;
}
Handler load_address(unsigned size) {
    return size == 1 ? run_load_address<std::uint16_t> : run_load_address<std::uint32_t>;
}
Handler load_far(unsigned size) { return size == 1 ? run_load_far<std::uint16_t> : run_load_far<std::uint32_t>; }
Handler translate() { return run_translate; }
Handler push_register(unsigned size) {
    return size == 1 ? run_push_register<std::uint16_t> : run_push_register<std::uint32_t>;
}
Handler pop_register(unsigned size) {
    return size == 1 ? run_pop_register<std::uint16_t> : run_pop_register<std::uint32_t>;
}
Handler push_immediate(unsigned size) {
    return size == 1 ? run_push_immediate<std::uint16_t> : run_push_immediate<std::uint32_t>;
}
Handler push_operand(unsigned size) {
    return size == 1 ? run_push_operand<std::uint16_t> : run_push_operand<std::uint32_t>;
}
Handler pop_operand(unsigned size, bool memory) {
    if (size == 1) return memory ? run_pop_operand<std::uint16_t, true> : run_pop_operand<std::uint16_t, false>;
    return memory ? run_pop_operand<std::uint32_t, true> : run_pop_operand<std::uint32_t, false>;
}
Handler push_segment(unsigned size) {
    return size == 1 ? run_push_segment<std::uint16_t> : run_push_segment<std::uint32_t>;
}
Handler pop_segment(unsigned size) {
    return size == 1 ? run_pop_segment<std::uint16_t> : run_pop_segment<std::uint32_t>;
}
Handler push_all(unsigned size) { return size == 1 ? run_push_all<std::uint16_t> : run_push_all<std::uint32_t>; }
Handler pop_all(unsigned size) { return size == 1 ? run_pop_all<std::uint16_t> : run_pop_all<std::uint32_t>; }
Handler push_flags(unsigned size) { return size == 1 ? run_push_flags<std::uint16_t> : run_push_flags<std::uint32_t>; }
Handler pop_flags(unsigned size) { return size == 1 ? run_pop_flags<std::uint16_t> : run_pop_flags<std::uint32_t>; }
Handler enter(unsigned size) { return size == 1 ? run_enter<std::uint16_t> : run_enter<std::uint32_t>; }
Handler leave_frame(unsigned size) { return size == 1 ? run_leave<std::uint16_t> : run_leave<std::uint32_t>; }
Handler convert(bool to_double, unsigned size) {
    if (to_double) return size == 1 ? run_cwd : run_cdq;
    return size == 1 ? run_cbw : run_cwde;
}
Handler flag_operation(std::uint8_t opcode) {
    switch (opcode) {
        case 0x9E: return run_sahf;
        case 0x9F: return run_lahf;
        case 0xD6: return run_salc;
        case 0xF5: return run_cmc;
        case 0xF8: return run_clc;
        case 0xF9: return run_stc;
        case 0xFA: return run_cli;
        case 0xFB: return run_sti;
        case 0xFC: return run_cld;
        default: return run_std;
    }
}

}  // namespace herberge::rehearsal
