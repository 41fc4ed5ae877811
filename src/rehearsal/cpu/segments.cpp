// SPDX-License-Identifier: MIT
// Descriptors, segment registers, and transfers between code segments of one privilege (SDM volume 3, chapters 3, 5,
// 6).
#include <algorithm>

#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

struct Descriptor {
    std::uint32_t low = 0, high = 0;
    std::uint32_t address = 0;  ///< linear

    [[nodiscard]] std::uint32_t base() const { return low >> 16U | (high & 0xFFU) << 16U | (high & 0xFF000000U); }
    [[nodiscard]] std::uint32_t limit() const {
        const std::uint32_t limit = (low & 0xFFFFU) | (high & 0xF0000U);
        return (high & 1U << 23U) != 0 ? limit << 12U | 0xFFFU : limit;
    }
    [[nodiscard]] bool big() const { return (high & 1U << 22U) != 0; }
    [[nodiscard]] bool present() const { return (high & 1U << 15U) != 0; }
    [[nodiscard]] unsigned privilege() const { return high >> 13U & 3U; }
    [[nodiscard]] bool is_segment() const { return (high & 1U << 12U) != 0; }
    [[nodiscard]] unsigned type() const { return high >> 8U & 15U; }
    [[nodiscard]] bool is_code() const { return is_segment() && (type() & 8U) != 0; }
    /// Of code: readable; of data: writable.
    [[nodiscard]] bool second() const { return (type() & 2U) != 0; }
    /// Of code: conforming; of data: it grows downwards.
    [[nodiscard]] bool third() const { return (type() & 4U) != 0; }
    [[nodiscard]] std::uint16_t access() const { return static_cast<std::uint16_t>(high >> 8U & 0xF0FFU); }
    // Gates.
    [[nodiscard]] std::uint16_t selector() const { return static_cast<std::uint16_t>(low >> 16U); }
    [[nodiscard]] std::uint32_t offset() const { return (low & 0xFFFFU) | (high & 0xFFFF0000U); }
};

std::uint16_t error_of(std::uint16_t selector) { return static_cast<std::uint16_t>(selector & ~3U); }
bool is_null(std::uint16_t selector) { return (selector & ~3U) == 0; }
unsigned privilege(const Cpu& cpu) { return cpu.protected_mode() ? cpu.segments[CS].selector & 3U : 0; }

std::optional<Descriptor> find(const Cpu& cpu, std::uint16_t selector) {
    const TableRegister& table = (selector & 4U) != 0 ? cpu.ldt : cpu.gdt;
    const std::uint32_t at = selector & ~7U;
    if (((selector & 4U) != 0 && is_null(cpu.ldt.selector)) || at + 7 > table.limit) return std::nullopt;
    const std::uint32_t address = table.base + at;
    return Descriptor{cpu.memory.load<std::uint32_t>(address), cpu.memory.load<std::uint32_t>(address + 4), address};
}
Descriptor need(const Cpu& cpu, std::uint16_t selector, std::uint8_t vector = exception::protection) {
    const auto found = find(cpu, selector);
    if (!found) Cpu::raise(vector, error_of(selector));
    return *found;
}

void mark_accessed(Cpu& cpu, const Descriptor& d) {
    if ((d.high & 1U << 8U) == 0)
        cpu.memory.store<std::uint8_t>(d.address + 5, static_cast<std::uint8_t>(d.high >> 8U | 1U));
}

void put(Cpu& cpu, SegmentRegister which, std::uint16_t selector, const Descriptor& d) {
    Segment& s = cpu.segments[which];
    s.selector = selector;
    s.base = d.base();
    s.big = d.big();
    s.access = d.access() | 1U;
    s.can_read = !d.is_code() || d.second();
    s.can_write = !d.is_code() && d.second();
    s.first = 0;
    s.last = d.limit();
    if (!d.is_code() && d.third()) {
        // What lies above the limit is inside; a limit of all ones leaves nothing.
        s.first = d.limit() + 1;
        s.last = d.big() ? 0xFFFFFFFFU : 0xFFFFU;
        if (d.limit() >= s.last) {
            s.first = 1;
            s.last = 0;
        }
    }
}

/// The code segment that a jump or call goes to directly, at this privilege.
Descriptor code_target(const Cpu& cpu, std::uint16_t selector) {
    if (is_null(selector)) Cpu::raise(exception::protection, std::uint16_t{0});
    const auto d = need(cpu, selector);
    return d;
}
void check_code(const Cpu& cpu, std::uint16_t selector, const Descriptor& d) {
    const unsigned own = privilege(cpu);
    const bool fits = d.third() ? d.privilege() <= own : d.privilege() == own && (selector & 3U) <= own;
    if (!d.is_code() || !fits) Cpu::raise(exception::protection, error_of(selector));
    if (!d.present()) Cpu::raise(exception::not_present, error_of(selector));
}
void enter_code(Cpu& cpu, std::uint16_t selector, const Descriptor& d, std::uint32_t offset) {
    if (offset > d.limit()) Cpu::raise(exception::protection, std::uint16_t{0});
    mark_accessed(cpu, d);
    put(cpu, CS, static_cast<std::uint16_t>((selector & ~3U) | privilege(cpu)), d);
    cpu.eip = offset;
}
/// A gate that leads to a code segment of this privilege; the offset is the gate's own. None: it is no call gate.
struct Gate {
    Descriptor target;
    std::uint16_t selector;
    std::uint32_t offset;
    unsigned width;
};
std::optional<Gate> through_gate(Cpu& cpu, std::uint16_t selector, const Descriptor& d) {
    if (d.is_segment()) return std::nullopt;
    const unsigned type = d.type();
    if (type == 1 || type == 3 || type == 5 || type == 9 || type == 11) {
        cpu.stop(CpuStop::Unsupported, "a task switch");
        Cpu::raise(exception::task, error_of(selector));
    }
    if (type != 4 && type != 12) Cpu::raise(exception::protection, error_of(selector));
    if (d.privilege() < std::max(privilege(cpu), selector & 3U)) Cpu::raise(exception::protection, error_of(selector));
    if (!d.present()) Cpu::raise(exception::not_present, error_of(selector));
    Gate out{code_target(cpu, d.selector()), d.selector(), type == 4 ? d.offset() & 0xFFFFU : d.offset(),
             type == 4 ? 2U : 4U};
    if (!out.target.is_code() || out.target.privilege() > privilege(cpu))
        Cpu::raise(exception::protection, error_of(out.selector));
    if (!out.target.present()) Cpu::raise(exception::not_present, error_of(out.selector));
    if (!out.target.third() && out.target.privilege() < privilege(cpu)) {
        cpu.stop(CpuStop::Unsupported, "a call to another privilege");
        Cpu::raise(exception::protection, error_of(selector));
    }
    return out;
}

void push_wide(Cpu& cpu, unsigned width, std::uint32_t value) {
    if (width == 2) push<std::uint16_t>(cpu, static_cast<std::uint16_t>(value));
    else push<std::uint32_t>(cpu, value);
}
std::uint32_t peek_wide(Cpu& cpu, unsigned width, std::uint32_t skip) {
    return width == 2 ? std::uint32_t{peek<std::uint16_t>(cpu, skip)} : peek<std::uint32_t>(cpu, skip);
}

/// Puts the stack pointer back where something fails halfway.
template <class Do>
void or_restore_stack(Cpu& cpu, const Do& work) {
    const std::uint32_t before = cpu.gpr[ESP];
    try {
        work();
    } catch (const CpuFault&) {
        cpu.gpr[ESP] = before;
        throw;
    }
}

}  // namespace

void Cpu::load_real(SegmentRegister which, std::uint16_t selector) {
    Segment& s = segments[which];
    s.selector = selector;
    s.base = std::uint32_t{selector} << 4U;
    // Limits stay as protected mode left them ("unreal mode"); rights are those of real mode.
    s.can_read = s.can_write = true;
    if (s.first > 0) {
        s.first = 0;
        s.last = 0xFFFF;
    }
}

void load_segment(Cpu& cpu, SegmentRegister which, std::uint16_t selector) {
    if (which == CS) Cpu::raise(exception::opcode);
    if (!cpu.protected_mode()) return cpu.load_real(which, selector);
    if (is_null(selector)) {
        if (which == SS) Cpu::raise(exception::protection, std::uint16_t{0});
        Segment& s = cpu.segments[which];
        s = Segment{};
        s.selector = selector;
        s.first = 1;
        s.last = 0;
        return;
    }
    const auto d = need(cpu, selector);
    const unsigned own = privilege(cpu), asked = selector & 3U;
    bool fits = d.is_segment();
    if (which == SS) fits = fits && !d.is_code() && d.second() && asked == own && d.privilege() == own;
    else
        fits = fits && (!d.is_code() || d.second()) &&
               ((d.is_code() && d.third()) || (d.privilege() >= own && d.privilege() >= asked));
    if (!fits) Cpu::raise(exception::protection, error_of(selector));
    if (!d.present()) Cpu::raise(which == SS ? exception::stack : exception::not_present, error_of(selector));
    mark_accessed(cpu, d);
    put(cpu, which, selector, d);
}

void far_jump(Cpu& cpu, std::uint16_t selector, std::uint32_t offset, unsigned /*width*/) {
    cpu.leave |= Cpu::turned;
    if (!cpu.protected_mode()) {
        if (offset > cpu.segments[CS].last) Cpu::raise(exception::protection, std::uint16_t{0});
        cpu.load_real(CS, selector);
        cpu.eip = offset;
        return;
    }
    const auto d = code_target(cpu, selector);
    if (const auto gate = through_gate(cpu, selector, d))
        return enter_code(cpu, gate->selector, gate->target, gate->offset);
    check_code(cpu, selector, d);
    enter_code(cpu, selector, d, offset);
}

void far_call(Cpu& cpu, std::uint16_t selector, std::uint32_t offset, unsigned width, std::uint32_t back) {
    cpu.leave |= Cpu::turned;
    const std::uint16_t from = cpu.segments[CS].selector;
    or_restore_stack(cpu, [&] {
        if (!cpu.protected_mode()) {
            if (offset > cpu.segments[CS].last) Cpu::raise(exception::protection, std::uint16_t{0});
            push_wide(cpu, width, from);
            push_wide(cpu, width, back);
            cpu.load_real(CS, selector);
            cpu.eip = offset;
            return;
        }
        const auto d = code_target(cpu, selector);
        const auto gate = through_gate(cpu, selector, d);
        if (!gate) check_code(cpu, selector, d);
        push_wide(cpu, gate ? gate->width : width, from);
        push_wide(cpu, gate ? gate->width : width, back);
        if (gate) enter_code(cpu, gate->selector, gate->target, gate->offset);
        else enter_code(cpu, selector, d, offset);
    });
}

namespace {

/// Takes CS:EIP from the stack, `skip` bytes above its top; privilege stays.
void return_to(Cpu& cpu, std::uint32_t offset, std::uint16_t selector) {
    if (!cpu.protected_mode()) {
        if (offset > cpu.segments[CS].last) Cpu::raise(exception::protection, std::uint16_t{0});
        cpu.load_real(CS, selector);
        cpu.eip = offset;
        return;
    }
    const auto d = code_target(cpu, selector);
    const unsigned asked = selector & 3U, own = privilege(cpu);
    const bool fits = d.is_code() && asked >= own && (d.third() ? d.privilege() <= asked : d.privilege() == asked);
    if (!fits) Cpu::raise(exception::protection, error_of(selector));
    if (!d.present()) Cpu::raise(exception::not_present, error_of(selector));
    if (asked != own) {
        cpu.stop(CpuStop::Unsupported, "a return to another privilege");
        Cpu::raise(exception::protection, error_of(selector));
    }
    enter_code(cpu, selector, d, offset);
}

}  // namespace

void far_return(Cpu& cpu, unsigned width, std::uint32_t more) {
    cpu.leave |= Cpu::turned;
    const std::uint32_t offset = peek_wide(cpu, width, 0);
    const auto selector = static_cast<std::uint16_t>(peek_wide(cpu, width, width));
    return_to(cpu, offset, selector);
    set_stack_pointer(cpu, stack_pointer(cpu) + 2 * width + more);
}

void interrupt_return(Cpu& cpu, unsigned width) {
    cpu.leave |= Cpu::turned;
    if (cpu.protected_mode() && (cpu.other_flags & flag::nested) != 0) {
        cpu.stop(CpuStop::Unsupported, "a return from a task");
        Cpu::raise(exception::task, std::uint16_t{0});
    }
    const std::uint32_t offset = peek_wide(cpu, width, 0);
    const auto selector = static_cast<std::uint16_t>(peek_wide(cpu, width, width));
    const std::uint32_t flags = peek_wide(cpu, width, 2 * width);
    if (cpu.protected_mode() && width == 4 && (flags & flag::virtual_8086) != 0) {
        cpu.stop(CpuStop::Unsupported, "virtual 8086 mode");
        Cpu::raise(exception::protection, std::uint16_t{0});
    }
    return_to(cpu, offset, selector);
    set_stack_pointer(cpu, stack_pointer(cpu) + 3 * width);
    const std::uint32_t kept = width == 2 ? 0xFFFF0000U : flag::virtual_8086;
    cpu.set_eflags((cpu.eflags() & kept) | (flags & ~kept));
}

/// Through the table of real mode, or a gate of protected mode. EIP is where it returns to.
void Cpu::deliver(std::uint8_t vector, std::optional<std::uint16_t> error, bool software) {
    leave |= turned;
    trapped = false;
    const std::uint32_t back = eip;
    const std::uint32_t flags = eflags();
    const std::uint16_t from = segments[CS].selector;
    or_restore_stack(*this, [&] {
        if (!protected_mode()) {
            const std::uint32_t at = std::uint32_t{vector} * 4;
            if (at + 3 > idt.limit) raise(exception::protection);
            push<std::uint16_t>(*this, static_cast<std::uint16_t>(flags));
            push<std::uint16_t>(*this, from);
            push<std::uint16_t>(*this, static_cast<std::uint16_t>(back));
            const auto target = memory.load<std::uint16_t>(idt.base + at);
            load_real(CS, memory.load<std::uint16_t>(idt.base + at + 2));
            eip = target;
            other_flags &= ~(flag::interrupt | flag::trap | flag::check);
            return;
        }
        const std::uint32_t at = std::uint32_t{vector} * 8;
        const auto code = static_cast<std::uint16_t>(at + 2U);
        if (at + 7 > idt.limit) raise(exception::protection, code);
        const Descriptor gate{memory.load<std::uint32_t>(idt.base + at), memory.load<std::uint32_t>(idt.base + at + 4),
                              idt.base + at};
        const unsigned type = gate.is_segment() ? 0 : gate.type();
        if (type == 5) {
            stop(CpuStop::Unsupported, "a task switch");
            raise(exception::task, code);
        }
        if ((type & 7U) != 6 && (type & 7U) != 7) raise(exception::protection, code);
        if (software && gate.privilege() < privilege(*this)) raise(exception::protection, code);
        if (!gate.present()) raise(exception::not_present, code);
        const std::uint16_t selector = gate.selector();
        const auto target = code_target(*this, selector);
        if (!target.is_code() || target.privilege() > privilege(*this))
            raise(exception::protection, error_of(selector));
        if (!target.present()) raise(exception::not_present, error_of(selector));
        if (!target.third() && target.privilege() < privilege(*this)) {
            stop(CpuStop::Unsupported, "an interrupt to another privilege");
            raise(exception::protection, error_of(selector));
        }
        const unsigned width = type >= 8 ? 4 : 2;
        push_wide(*this, width, flags);
        push_wide(*this, width, from);
        push_wide(*this, width, back);
        if (error) push_wide(*this, width, *error);
        enter_code(*this, selector, target, width == 2 ? gate.offset() & 0xFFFFU : gate.offset());
        other_flags &= ~(flag::trap | flag::nested | flag::resume);
        if ((type & 1U) == 0) other_flags &= ~flag::interrupt;
    });
}

// --- instructions on descriptors

namespace {

/// LAR and LSL: zero tells whether the selector may be looked at.
template <bool Limit, class T, bool M>
void run_query(Cpu& cpu, const Operation& op) {
    if (!cpu.protected_mode()) Cpu::raise(exception::opcode);
    const auto selector = operand<std::uint16_t, M>(cpu, op);
    const auto d = is_null(selector) ? std::nullopt : find(cpu, selector);
    bool seen = d.has_value();
    if (seen && d->is_segment()) {
        const bool everywhere = d->is_code() && d->third();
        seen = everywhere || d->privilege() >= std::max(privilege(cpu), selector & 3U);
    } else if (seen) {
        constexpr std::uint32_t with_rights = 0x1A3EU, with_limit = 0x0A0EU;  // system types, one bit each
        seen = ((Limit ? with_limit : with_rights) >> d->type() & 1U) != 0 &&
               d->privilege() >= std::max(privilege(cpu), selector & 3U);
    }
    const bool over = overflow(cpu), out = carry(cpu);
    cpu.zero_of = seen ? 0 : 1;
    set_carries(cpu, out, over);
    if (seen) set<T>(cpu, op.reg, static_cast<T>(Limit ? d->limit() : d->high & 0x00F0FF00U));
}

/// VERR and VERW.
template <bool Write, bool M>
void run_verify(Cpu& cpu, const Operation& op) {
    if (!cpu.protected_mode()) Cpu::raise(exception::opcode);
    const auto selector = operand<std::uint16_t, M>(cpu, op);
    const auto d = is_null(selector) ? std::nullopt : find(cpu, selector);
    bool fits = d && d->is_segment() && (Write ? !d->is_code() && d->second() : !d->is_code() || d->second());
    if (fits && !(d->is_code() && d->third())) fits = d->privilege() >= std::max(privilege(cpu), selector & 3U);
    cpu.zero_of = fits ? 0 : 1;
}

template <bool Task, class T, bool M>
void run_store_selector(Cpu& cpu, const Operation& op) {
    if (!cpu.protected_mode()) Cpu::raise(exception::opcode);
    const std::uint16_t selector = Task ? cpu.task.selector : cpu.ldt.selector;
    if constexpr (M) set_operand<std::uint16_t, true>(cpu, op, selector);
    else set<T>(cpu, op.rm, selector);
}
template <bool Task, bool M>
void run_load_selector(Cpu& cpu, const Operation& op) {
    if (!cpu.protected_mode()) Cpu::raise(exception::opcode);
    const auto selector = operand<std::uint16_t, M>(cpu, op);
    if (privilege(cpu) != 0) Cpu::raise(exception::protection, std::uint16_t{0});
    TableRegister& into = Task ? cpu.task : cpu.ldt;
    if (!Task && is_null(selector)) {
        into = {0, 0, selector};
        return;
    }
    if (is_null(selector) || (selector & 4U) != 0) Cpu::raise(exception::protection, error_of(selector));
    const auto d = need(cpu, selector);
    const bool fits = !d.is_segment() && (Task ? d.type() == 1 || d.type() == 9 : d.type() == 2);
    if (!fits) Cpu::raise(exception::protection, error_of(selector));
    if (!d.present()) Cpu::raise(exception::not_present, error_of(selector));
    if (Task) cpu.memory.store<std::uint8_t>(d.address + 5, static_cast<std::uint8_t>(d.high >> 8U | 2U));
    into = {d.base(), d.limit(), selector};
}
template <bool M>
void run_adjust_privilege(Cpu& cpu, const Operation& op) {
    if (!cpu.protected_mode()) Cpu::raise(exception::opcode);
    const unsigned wanted = get<std::uint16_t>(cpu, op.reg) & 3U;
    bool raised = false;
    change_operand<std::uint16_t, M>(cpu, op, [&](std::uint16_t value) {
        raised = (value & 3U) < wanted;
        return raised ? static_cast<std::uint16_t>((value & ~3U) | wanted) : value;
    });
    cpu.zero_of = raised ? 0 : 1;
}

template <bool Limit>
Handler pick_query(unsigned size, bool memory) {
    if (size == 1) return memory ? run_query<Limit, std::uint16_t, true> : run_query<Limit, std::uint16_t, false>;
    return memory ? run_query<Limit, std::uint32_t, true> : run_query<Limit, std::uint32_t, false>;
}
template <bool Task>
Handler pick_store(unsigned size, bool memory) {
    if (memory) return run_store_selector<Task, std::uint16_t, true>;
    return size == 1 ? run_store_selector<Task, std::uint16_t, false> : run_store_selector<Task, std::uint32_t, false>;
}

}  // namespace

Handler descriptor_query(bool limit, unsigned size, bool memory) {
    return limit ? pick_query<true>(size, memory) : pick_query<false>(size, memory);
}
Handler descriptor_group(unsigned number, unsigned size, bool memory) {
    switch (number) {
        case 0: return pick_store<false>(size, memory);
        case 1: return pick_store<true>(size, memory);
        case 2: return memory ? run_load_selector<false, true> : run_load_selector<false, false>;
        case 3: return memory ? run_load_selector<true, true> : run_load_selector<true, false>;
        case 4: return memory ? run_verify<false, true> : run_verify<false, false>;
        case 5: return memory ? run_verify<true, true> : run_verify<true, false>;
        default: return undefined();
    }
}
Handler adjust_privilege(bool memory) { return memory ? run_adjust_privilege<true> : run_adjust_privilege<false>; }

}  // namespace herberge::rehearsal
