// SPDX-License-Identifier: MIT
// Control registers, table registers, what the CPU says of itself.
#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

constexpr std::uint32_t protection_on = 1U << 0U, task_switched = 1U << 3U, extension_type = 1U << 4U,
                        paging = 1U << 31U;

void need_privilege(const Cpu& cpu) {
    if (cpu.protected_mode() && (cpu.segments[CS].selector & 3U) != 0)
        Cpu::raise(exception::protection, std::uint16_t{0});
}

void set_control_0(Cpu& cpu, std::uint32_t value) {
    if ((value & paging) != 0) {
        if ((value & protection_on) == 0) Cpu::raise(exception::protection, std::uint16_t{0});
        cpu.stop(CpuStop::Unsupported, "paging");
        return;
    }
    cpu.cr0 = value | extension_type;
    cpu.leave |= Cpu::turned;
}

void run_from_control(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    switch (op.reg) {
        case 0: cpu.gpr[op.rm] = cpu.cr0; break;
        case 2: cpu.gpr[op.rm] = cpu.cr2; break;
        case 3: cpu.gpr[op.rm] = cpu.cr3; break;
        case 4: cpu.gpr[op.rm] = cpu.cr4; break;
        default: Cpu::raise(exception::opcode);
    }
}
void run_to_control(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    const std::uint32_t value = cpu.gpr[op.rm];
    switch (op.reg) {
        case 0: set_control_0(cpu, value); break;
        case 2: cpu.cr2 = value; break;
        case 3: cpu.cr3 = value; break;
        case 4: cpu.cr4 = value; break;
        default: Cpu::raise(exception::opcode);
    }
}
void run_from_debug(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    cpu.gpr[op.rm] = cpu.debug[op.reg];
}
void run_to_debug(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    cpu.debug[op.reg] = cpu.gpr[op.rm];
}

/// SGDT and SIDT write six bytes, also with 16-bit operands.
template <bool Interrupts>
void run_store_table(Cpu& cpu, const Operation& op) {
    const std::uint32_t offset = offset_of(cpu, op);
    (void)writable(cpu, op.segment, offset, 6);
    const TableRegister& table = Interrupts ? cpu.idt : cpu.gdt;
    store<std::uint16_t>(cpu, op.segment, offset, static_cast<std::uint16_t>(table.limit));
    store<std::uint32_t>(cpu, op.segment, offset + 2, table.base);
}
template <bool Interrupts, class T>
void run_load_table(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    const std::uint32_t offset = offset_of(cpu, op);
    (void)readable(cpu, op.segment, offset, 6);
    TableRegister& table = Interrupts ? cpu.idt : cpu.gdt;
    const auto limit = load<std::uint16_t>(cpu, op.segment, offset);
    const auto base = load<std::uint32_t>(cpu, op.segment, offset + 2);
    table.limit = limit;
    table.base = sizeof(T) == 2 ? base & 0xFFFFFFU : base;
}
template <class T, bool M>
void run_store_status(Cpu& cpu, const Operation& op) {
    if constexpr (M) set_operand<std::uint16_t, true>(cpu, op, static_cast<std::uint16_t>(cpu.cr0));
    else set<T>(cpu, op.rm, static_cast<T>(cpu.cr0));
}
/// Protected mode can be turned on so, and not off.
template <bool M>
void run_load_status(Cpu& cpu, const Operation& op) {
    need_privilege(cpu);
    const std::uint32_t value = operand<std::uint16_t, M>(cpu, op) & 15U;
    cpu.cr0 = (cpu.cr0 & ~14U) | value;
    cpu.leave |= Cpu::turned;
}
void run_clear_task_switched(Cpu& cpu, const Operation&) {
    need_privilege(cpu);
    cpu.cr0 &= ~task_switched;
}
void run_identify(Cpu& cpu, const Operation&) {
    const auto told = cpu.ports.cpuid(cpu.gpr[EAX]);
    cpu.gpr[EAX] = told[0];
    cpu.gpr[EBX] = told[1];
    cpu.gpr[ECX] = told[2];
    cpu.gpr[EDX] = told[3];
}
/// No model-specific registers.
void run_model_register(Cpu& cpu, const Operation&) {
    need_privilege(cpu);
    Cpu::raise(exception::protection, std::uint16_t{0});
}

}  // namespace

Handler table_group(unsigned number, unsigned size, bool memory) {
    const bool word = size == 1;
    switch (number) {
        case 0: return memory ? run_store_table<false> : undefined();
        case 1: return memory ? run_store_table<true> : undefined();
        case 2:
            if (!memory) return undefined();
            return word ? run_load_table<false, std::uint16_t> : run_load_table<false, std::uint32_t>;
        case 3:
            if (!memory) return undefined();
            return word ? run_load_table<true, std::uint16_t> : run_load_table<true, std::uint32_t>;
        case 4:
            if (memory) return run_store_status<std::uint16_t, true>;
            return word ? run_store_status<std::uint16_t, false> : run_store_status<std::uint32_t, false>;
        case 6: return memory ? run_load_status<true> : run_load_status<false>;
        case 7: return memory ? nothing() : undefined();  // INVLPG
        default: return undefined();
    }
}
Handler control_register(bool to_control) { return to_control ? run_to_control : run_from_control; }
Handler debug_register(bool to_debug) { return to_debug ? run_to_debug : run_from_debug; }
Handler clear_task_switched() { return run_clear_task_switched; }
Handler identify() { return run_identify; }
Handler model_register(bool /*write*/) { return run_model_register; }

}  // namespace herberge::rehearsal
