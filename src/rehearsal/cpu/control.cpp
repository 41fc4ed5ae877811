// SPDX-License-Identifier: MIT
// Jumps, calls, returns, loops, interrupts asked for by a program.
#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

/// Jump targets are worked out when they are decoded, but for the instruction's own place.
template <class T>
std::uint32_t target_of(const Cpu& cpu, const Operation& op) {
    return static_cast<T>(next_eip(cpu, op) + op.immediate);
}

template <unsigned Condition, class T>
void run_jump_if(Cpu& cpu, const Operation& op) {
    if (!holds<Condition>(cpu)) return;
    jump<T>(cpu, target_of<T>(cpu, op));
    cpu.leave |= Cpu::jumped;
}
template <class T>
void run_jump(Cpu& cpu, const Operation& op) {
    jump<T>(cpu, target_of<T>(cpu, op));
}
template <class T>
void call(Cpu& cpu, const Operation& op, std::uint32_t target) {
    target = static_cast<T>(target);
    if (target > cpu.segments[CS].last) Cpu::raise(exception::protection, std::uint16_t{0});
    push<T>(cpu, static_cast<T>(next_eip(cpu, op)));
    cpu.eip = target;
}
template <class T>
void run_call(Cpu& cpu, const Operation& op) {
    call<T>(cpu, op, target_of<T>(cpu, op));
}
template <class T, bool M>
void run_jump_operand(Cpu& cpu, const Operation& op) {
    jump<T>(cpu, operand<T, M>(cpu, op));
}
template <class T, bool M>
void run_call_operand(Cpu& cpu, const Operation& op) {
    call<T>(cpu, op, operand<T, M>(cpu, op));
}
template <class T>
void run_return(Cpu& cpu, const Operation& op) {
    const T target = peek<T>(cpu);
    jump<T>(cpu, target);
    set_stack_pointer(cpu, stack_pointer(cpu) + static_cast<std::uint32_t>(sizeof(T)) + op.immediate);
}

/// E0 LOOPNE, E1 LOOPE, E2 LOOP, E3 JCXZ; the address size says whether CX or ECX counts.
template <std::uint8_t Opcode, class T>
void run_loop(Cpu& cpu, const Operation& op) {
    const bool wide = op.mask == 0xFFFFFFFFU;
    std::uint32_t count = wide ? cpu.gpr[ECX] : cpu.word(ECX);
    bool taken = false;
    if constexpr (Opcode == 0xE3) {
        taken = count == 0;
    } else {
        count = (count - 1) & op.mask;
        taken = count != 0 && (Opcode == 0xE2 || zero(cpu) == (Opcode == 0xE1));
    }
    const std::uint32_t target = taken ? target_of<T>(cpu, op) : next_eip(cpu, op);
    if (taken) jump<T>(cpu, target);
    else cpu.eip = target;
    if constexpr (Opcode != 0xE3) {
        if (wide) cpu.gpr[ECX] = count;
        else cpu.set_word(ECX, static_cast<std::uint16_t>(count));
    }
}

template <class T>
void run_jump_far(Cpu& cpu, const Operation& op) {
    far_jump(cpu, op.second, static_cast<T>(op.immediate), sizeof(T));
}
template <class T>
void run_call_far(Cpu& cpu, const Operation& op) {
    far_call(cpu, op.second, static_cast<T>(op.immediate), sizeof(T), next_eip(cpu, op));
}
template <class T, bool Call>
void run_far_operand(Cpu& cpu, const Operation& op) {
    const std::uint32_t offset = offset_of(cpu, op);
    const T target = load<T>(cpu, op.segment, offset);
    const auto selector =
        load<std::uint16_t>(cpu, op.segment, (offset + static_cast<std::uint32_t>(sizeof(T))) & op.mask);
    if constexpr (Call) far_call(cpu, selector, target, sizeof(T), next_eip(cpu, op));
    else far_jump(cpu, selector, target, sizeof(T));
}
template <class T>
void run_return_far(Cpu& cpu, const Operation& op) {
    far_return(cpu, sizeof(T), op.immediate);
}
template <class T>
void run_return_interrupt(Cpu& cpu, const Operation&) {
    interrupt_return(cpu, sizeof(T));
}

void run_interrupt(Cpu& cpu, const Operation& op) {
    cpu.eip = next_eip(cpu, op);
    cpu.deliver(static_cast<std::uint8_t>(op.immediate), std::nullopt, true);
}
void run_interrupt_on_overflow(Cpu& cpu, const Operation& op) {
    cpu.eip = next_eip(cpu, op);
    if (overflow(cpu)) cpu.deliver(exception::overflow, std::nullopt, true);
}
template <class T>
void run_check_bounds(Cpu& cpu, const Operation& op) {
    using Signed = std::make_signed_t<T>;
    const std::uint32_t offset = offset_of(cpu, op);
    const auto low = static_cast<Signed>(load<T>(cpu, op.segment, offset));
    const auto high =
        static_cast<Signed>(load<T>(cpu, op.segment, (offset + static_cast<std::uint32_t>(sizeof(T))) & op.mask));
    const auto value = static_cast<Signed>(get<T>(cpu, op.reg));
    if (value < low || value > high) Cpu::raise(exception::bound);
}

void run_halt(Cpu& cpu, const Operation& op) {
    cpu.eip = next_eip(cpu, op);
    cpu.stop(CpuStop::Halted);
}
void run_nothing(Cpu&, const Operation&) {}
void run_undefined(Cpu&, const Operation&) { Cpu::raise(exception::opcode); }

template <class T, std::size_t... I>
constexpr std::array<Handler, 16> jumps(std::index_sequence<I...> /*numbers*/) {
    return {run_jump_if<I, T>...};
}
template <class T>
Handler pick_loop(std::uint8_t opcode) {
    switch (opcode) {
        case 0xE0: return run_loop<0xE0, T>;
        case 0xE1: return run_loop<0xE1, T>;
        case 0xE2: return run_loop<0xE2, T>;
        default: return run_loop<0xE3, T>;
    }
}

}  // namespace

Handler jump_if(unsigned condition, unsigned size) {
    static constexpr auto words = jumps<std::uint16_t>(std::make_index_sequence<16>{});
    static constexpr auto doubles = jumps<std::uint32_t>(std::make_index_sequence<16>{});
    return (size == 1 ? words : doubles)[condition];
}
Handler jump_near(unsigned size) { return size == 1 ? run_jump<std::uint16_t> : run_jump<std::uint32_t>; }
Handler call_near(unsigned size) { return size == 1 ? run_call<std::uint16_t> : run_call<std::uint32_t>; }
Handler jump_operand(unsigned size, bool memory) {
    if (size == 1) return memory ? run_jump_operand<std::uint16_t, true> : run_jump_operand<std::uint16_t, false>;
    return memory ? run_jump_operand<std::uint32_t, true> : run_jump_operand<std::uint32_t, false>;
}
Handler call_operand(unsigned size, bool memory) {
    if (size == 1) return memory ? run_call_operand<std::uint16_t, true> : run_call_operand<std::uint16_t, false>;
    return memory ? run_call_operand<std::uint32_t, true> : run_call_operand<std::uint32_t, false>;
}
Handler return_near(unsigned size) { return size == 1 ? run_return<std::uint16_t> : run_return<std::uint32_t>; }
Handler loop(std::uint8_t opcode, unsigned size) {
    return size == 1 ? pick_loop<std::uint16_t>(opcode) : pick_loop<std::uint32_t>(opcode);
}
Handler jump_far(unsigned size) { return size == 1 ? run_jump_far<std::uint16_t> : run_jump_far<std::uint32_t>; }
Handler call_far(unsigned size) { return size == 1 ? run_call_far<std::uint16_t> : run_call_far<std::uint32_t>; }
Handler jump_far_operand(unsigned size) {
    return size == 1 ? run_far_operand<std::uint16_t, false> : run_far_operand<std::uint32_t, false>;
}
Handler call_far_operand(unsigned size) {
    return size == 1 ? run_far_operand<std::uint16_t, true> : run_far_operand<std::uint32_t, true>;
}
Handler return_far(unsigned size) { return size == 1 ? run_return_far<std::uint16_t> : run_return_far<std::uint32_t>; }
Handler return_interrupt(unsigned size) {
    return size == 1 ? run_return_interrupt<std::uint16_t> : run_return_interrupt<std::uint32_t>;
}
Handler software_interrupt(std::uint8_t opcode) { return opcode == 0xCE ? run_interrupt_on_overflow : run_interrupt; }
Handler check_bounds(unsigned size) {
    return size == 1 ? run_check_bounds<std::uint16_t> : run_check_bounds<std::uint32_t>;
}
Handler halt() { return run_halt; }
Handler nothing() { return run_nothing; }
Handler undefined() { return run_undefined; }

}  // namespace herberge::rehearsal
