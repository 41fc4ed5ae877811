// SPDX-License-Identifier: MIT
// What the instructions share: operands, memory with its segment's limits, flags, the stack.
#pragma once

#include <bit>
#include <type_traits>

#include "rehearsal/cpu/cpu.hpp"

namespace herberge::rehearsal {

using Handler = void (*)(Cpu&, const Operation&);

/// Exceptions (SDM volume 3, section 6.3).
namespace exception {
inline constexpr std::uint8_t divide = 0, debug = 1, breakpoint = 3, overflow = 4, bound = 5, opcode = 6, device = 7,
                              task = 10, not_present = 11, stack = 12, protection = 13;
}

template <class T>
inline constexpr unsigned bits_of = sizeof(T) * 8;
template <class T>
inline constexpr std::uint32_t sign_bit = std::uint32_t{1} << (bits_of<T> - 1);

/// Sign-extended to 32 bits.
template <class T>
constexpr std::uint32_t extended(T value) {
    return static_cast<std::uint32_t>(static_cast<std::int32_t>(static_cast<std::make_signed_t<T>>(value)));
}

template <class T>
constexpr std::int64_t signed_value(T value) {
    return static_cast<std::int32_t>(extended(value));
}

// --- registers

template <class T>
T get(Cpu& cpu, unsigned place) {
    if constexpr (sizeof(T) == 1) return cpu.byte(place);
    else return static_cast<T>(cpu.gpr[place]);
}
template <class T>
void set(Cpu& cpu, unsigned place, T value) {
    if constexpr (sizeof(T) == 1) cpu.byte(place) = value;
    else if constexpr (sizeof(T) == 2) cpu.set_word(place, value);
    else cpu.gpr[place] = value;
}

// --- memory

inline std::uint32_t offset_of(const Cpu& cpu, const Operation& op) {
    return (cpu.gpr[op.base] + (cpu.gpr[op.index] << op.scale) + op.displacement) & op.mask;
}

[[noreturn]] inline void outside(unsigned segment) {
    Cpu::raise(segment == SS ? exception::stack : exception::protection, std::uint16_t{0});
}
/// The linear address of `size` bytes that may be read; outside of the segment an exception.
inline std::uint32_t readable(const Cpu& cpu, unsigned segment, std::uint32_t offset, std::uint32_t size) {
    const Segment& s = cpu.segments[segment];
    if (offset < s.first || offset > s.last || s.last - offset < size - 1 || !s.can_read) [[unlikely]]
        outside(segment);
    return s.base + offset;
}
inline std::uint32_t writable(const Cpu& cpu, unsigned segment, std::uint32_t offset, std::uint32_t size) {
    const Segment& s = cpu.segments[segment];
    if (offset < s.first || offset > s.last || s.last - offset < size - 1 || !s.can_write) [[unlikely]]
        outside(segment);
    return s.base + offset;
}
template <class T>
[[gnu::always_inline]] inline T load(Cpu& cpu, unsigned segment, std::uint32_t offset) {
    return cpu.memory.load<T>(readable(cpu, segment, offset, sizeof(T)));
}
template <class T>
[[gnu::always_inline]] inline void store(Cpu& cpu, unsigned segment, std::uint32_t offset, T value) {
    cpu.memory.store<T>(writable(cpu, segment, offset, sizeof(T)), value);
}

/// The operand that is a register or lies in memory.
template <class T, bool Memory>
[[gnu::always_inline]] inline T operand(Cpu& cpu, const Operation& op) {
    if constexpr (Memory) return load<T>(cpu, op.segment, offset_of(cpu, op));
    else return get<T>(cpu, op.rm);
}
template <class T, bool Memory>
[[gnu::always_inline]] inline void set_operand(Cpu& cpu, const Operation& op, T value) {
    if constexpr (Memory) store<T>(cpu, op.segment, offset_of(cpu, op), value);
    else set<T>(cpu, op.rm, value);
}
/// Reads, changes and writes it; `change` gives the new value. It must be writable before anything happens.
template <class T, bool Memory, class Change>
void change_operand(Cpu& cpu, const Operation& op, const Change& change) {
    if constexpr (Memory) {
        const std::uint32_t offset = offset_of(cpu, op);
        const std::uint32_t address = writable(cpu, op.segment, offset, sizeof(T));
        (void)readable(cpu, op.segment, offset, sizeof(T));
        cpu.memory.store<T>(address, change(cpu.memory.load<T>(address)));
    } else {
        set<T>(cpu, op.rm, change(get<T>(cpu, op.rm)));
    }
}

// --- flags: kept as what they come from

inline bool carry(const Cpu& cpu) { return (cpu.carries >> 31U) != 0; }
inline bool overflow(const Cpu& cpu) { return ((cpu.carries ^ (cpu.carries << 1U)) >> 31U) != 0; }
inline bool zero(const Cpu& cpu) { return cpu.zero_of == 0; }
inline bool sign(const Cpu& cpu) { return (cpu.sign_of >> 31U) != 0; }
inline bool parity(const Cpu& cpu) { return std::popcount(cpu.parity_of & 0xFFU) % 2 == 0; }
inline bool adjust(const Cpu& cpu) { return (cpu.adjust_of & 0x10U) != 0; }

/// The carry into and out of the topmost bit stand in the two topmost bits: overflow is that they differ.
inline void set_carries(Cpu& cpu, bool carry_out, bool overflow_out) {
    cpu.carries = std::uint32_t{carry_out} << 31U | std::uint32_t{carry_out != overflow_out} << 30U;
}
template <class T>
void set_result(Cpu& cpu, T result) {
    cpu.zero_of = cpu.sign_of = cpu.parity_of = extended(result);
}
template <class T>
void set_logic(Cpu& cpu, T result) {
    set_result(cpu, result);
    cpu.carries = cpu.adjust_of = 0;
}
template <class T>
T add(Cpu& cpu, T a, T b, bool more = false) {
    const auto result = static_cast<T>(a + b + T{more});
    const auto carries = static_cast<T>((a & b) | ((a | b) & static_cast<T>(~result)));
    set_result(cpu, result);
    cpu.carries = std::uint32_t{carries} << (32 - bits_of<T>);
    cpu.adjust_of = std::uint32_t{a} ^ b ^ result;
    return result;
}
template <class T>
T subtract(Cpu& cpu, T a, T b, bool less = false) {
    const auto result = static_cast<T>(a - b - T{less});
    const auto borrows = static_cast<T>((static_cast<T>(~a) & b) | (static_cast<T>(~(a ^ b)) & result));
    set_result(cpu, result);
    cpu.carries = std::uint32_t{borrows} << (32 - bits_of<T>);
    cpu.adjust_of = std::uint32_t{a} ^ b ^ result;
    return result;
}

/// The sixteen conditions of Jcc, SETcc, CMOVcc (SDM volume 2, appendix B.1.4.7).
template <unsigned Condition>
bool holds(const Cpu& cpu) {
    constexpr unsigned kind = Condition / 2;
    bool out = false;
    if constexpr (kind == 0) out = overflow(cpu);
    else if constexpr (kind == 1) out = carry(cpu);
    else if constexpr (kind == 2) out = zero(cpu);
    else if constexpr (kind == 3) out = carry(cpu) || zero(cpu);
    else if constexpr (kind == 4) out = sign(cpu);
    else if constexpr (kind == 5) out = parity(cpu);
    else if constexpr (kind == 6) out = sign(cpu) != overflow(cpu);
    else out = zero(cpu) || sign(cpu) != overflow(cpu);
    return out != (Condition % 2 != 0);
}

// --- the stack

inline std::uint32_t stack_mask(const Cpu& cpu) { return cpu.segments[SS].big ? 0xFFFFFFFFU : 0xFFFFU; }
inline std::uint32_t stack_pointer(const Cpu& cpu) { return cpu.gpr[ESP] & stack_mask(cpu); }
inline void set_stack_pointer(Cpu& cpu, std::uint32_t value) {
    const std::uint32_t mask = stack_mask(cpu);
    cpu.gpr[ESP] = (cpu.gpr[ESP] & ~mask) | (value & mask);
}
template <class T>
[[gnu::always_inline]] inline void push(Cpu& cpu, T value) {
    const std::uint32_t to = (stack_pointer(cpu) - static_cast<std::uint32_t>(sizeof(T))) & stack_mask(cpu);
    store<T>(cpu, SS, to, value);
    set_stack_pointer(cpu, to);
}
/// The value `skip` bytes above the stack's top; nothing is taken off.
template <class T>
[[gnu::always_inline]] inline T peek(Cpu& cpu, std::uint32_t skip = 0) {
    return load<T>(cpu, SS, (stack_pointer(cpu) + skip) & stack_mask(cpu));
}
template <class T>
[[gnu::always_inline]] inline T pop(Cpu& cpu) {
    const T value = peek<T>(cpu);
    set_stack_pointer(cpu, stack_pointer(cpu) + static_cast<std::uint32_t>(sizeof(T)));
    return value;
}

// --- control

inline std::uint32_t next_eip(const Cpu& cpu, const Operation& op) { return cpu.run_eip + op.end; }
/// Goes on at `target`, which must lie in the code segment.
template <class T>
void jump(Cpu& cpu, std::uint32_t target) {
    target = static_cast<T>(target);
    if (target > cpu.segments[CS].last) Cpu::raise(exception::protection, std::uint16_t{0});
    cpu.eip = target;
}

// --- segments and descriptors (segments.cpp)

/// MOV, POP and their kin to a segment register, in the mode at hand.
void load_segment(Cpu& cpu, SegmentRegister which, std::uint16_t selector);
/// A jump, or a call with `width` bytes for each value that it leaves on the stack, to another code segment.
void far_jump(Cpu& cpu, std::uint16_t selector, std::uint32_t offset, unsigned width);
void far_call(Cpu& cpu, std::uint16_t selector, std::uint32_t offset, unsigned width, std::uint32_t back);
/// `more`: bytes taken off besides.
void far_return(Cpu& cpu, unsigned width, std::uint32_t more);
void interrupt_return(Cpu& cpu, unsigned width);

// --- handlers by operand size (0: bytes, 1: words, 2: double words); null: there is none

enum class Alu : std::uint8_t { Add, Or, Adc, Sbb, And, Sub, Xor, Cmp, Test };
enum class Source : std::uint8_t { Register, Immediate };
enum class Unary : std::uint8_t { Inc, Dec, Not, Neg, Mul, Imul, Div, Idiv };
enum class Shift : std::uint8_t { Rol, Ror, Rcl, Rcr, Shl, Shr, Sal, Sar };
enum class Count : std::uint8_t { One, Immediate, Cl };
enum class BitTest : std::uint8_t { Test, Set, Reset, Complement };

Handler alu(Alu what, unsigned size, Source source, bool memory);
/// The register is the destination, memory the source.
Handler alu_from_memory(Alu what, unsigned size);
Handler unary(Unary what, unsigned size, bool memory);
Handler shift(Shift what, unsigned size, Count count, bool memory);
Handler double_shift(bool left, unsigned size, bool by_cl, bool memory);
/// IMUL with two operands, or three.
Handler multiply(unsigned size, bool immediate, bool memory);
Handler bit_test(BitTest what, unsigned size, bool immediate, bool memory);
Handler bit_scan(bool reverse, unsigned size, bool memory);
Handler decimal(std::uint8_t opcode);
Handler exchange_add(unsigned size, bool memory);
Handler compare_exchange(unsigned size, bool memory);
Handler compare_exchange_8(bool memory);
Handler byte_swap();

Handler move(unsigned size, bool memory);  ///< register to r/m
Handler move_load(unsigned size);          ///< memory to register
Handler move_immediate(unsigned size, bool memory);
Handler move_extended(unsigned from, unsigned to, bool with_sign, bool memory);
Handler move_if(unsigned condition, unsigned size, bool memory);
Handler move_segment(bool to_segment, unsigned size, bool memory);
Handler exchange(unsigned size, bool memory);
Handler load_address(unsigned size);
Handler load_far(unsigned size);  ///< LDS and its kin; `second` names the segment register
Handler translate();
Handler push_register(unsigned size);
Handler pop_register(unsigned size);
Handler push_immediate(unsigned size);
Handler push_operand(unsigned size);
Handler pop_operand(unsigned size, bool memory);
Handler push_segment(unsigned size);
Handler pop_segment(unsigned size);
Handler push_all(unsigned size);
Handler pop_all(unsigned size);
Handler push_flags(unsigned size);
Handler pop_flags(unsigned size);
Handler enter(unsigned size);
Handler leave_frame(unsigned size);
Handler convert(bool to_double, unsigned size);  ///< CBW and CWD, with their kin
Handler set_if(unsigned condition, bool memory);
Handler flag_operation(std::uint8_t opcode);  ///< 9E, 9F, D6, F5, F8 to FD

Handler jump_if(unsigned condition, unsigned size);
Handler jump_near(unsigned size);
Handler call_near(unsigned size);
Handler jump_operand(unsigned size, bool memory);
Handler call_operand(unsigned size, bool memory);
Handler return_near(unsigned size);
Handler loop(std::uint8_t opcode, unsigned size);  ///< E0 to E3
Handler jump_far(unsigned size);
Handler call_far(unsigned size);
Handler jump_far_operand(unsigned size);
Handler call_far_operand(unsigned size);
Handler return_far(unsigned size);
Handler return_interrupt(unsigned size);
Handler software_interrupt(std::uint8_t opcode);  ///< CC, CD, CE, F1
Handler check_bounds(unsigned size);
Handler halt();
Handler nothing();
Handler undefined();

/// A4 to A7, AA to AF, 6C to 6F; `wide`: by 32-bit addresses.
Handler string(std::uint8_t opcode, unsigned size, bool wide);
/// E4 to E7, EC to EF.
Handler port(std::uint8_t opcode, unsigned size);

/// 0F 00 and 0F 01, by the reg field of the byte behind.
Handler descriptor_group(unsigned number, unsigned size, bool memory);
Handler table_group(unsigned number, unsigned size, bool memory);
Handler control_register(bool to_control);
Handler debug_register(bool to_debug);
Handler descriptor_query(bool limit, unsigned size, bool memory);  ///< LAR and LSL
Handler adjust_privilege(bool memory);                             ///< ARPL
Handler clear_task_switched();
Handler identify();
Handler model_register(bool write);

}  // namespace herberge::rehearsal
