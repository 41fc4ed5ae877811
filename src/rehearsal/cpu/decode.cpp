// SPDX-License-Identifier: MIT
#include "rehearsal/cpu/decode.hpp"

#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

constexpr unsigned most_bytes = 15;

/// An instruction that reaches beyond its segment, or is too long.
struct Unreachable {};

void run_unreachable(Cpu&, const Operation&) { Cpu::raise(exception::protection, std::uint16_t{0}); }

class Decoder {
public:
    Decoder(const Cpu& cpu, std::uint32_t eip) : cpu_(cpu), eip_(eip) {
        wide_operand_ = wide_address_ = cpu.segments[CS].big;
    }

    Decoded run() {
        try {
            prefixes();
            opcode();
        } catch (const Unreachable&) {
            out_.operation = {};
            out_.operation.run = run_unreachable;
            out_.ends = out_.unreachable = true;
        }
        out_.operation.length = static_cast<std::uint8_t>(at_);
        if (lock_ && !out_.unreachable && !may_lock()) op().run = undefined();
        if (op().run == undefined()) out_.ends = true;
        return out_;
    }

private:
    Operation& op() { return out_.operation; }
    void ends() { out_.ends = true; }
    [[nodiscard]] unsigned size() const { return wide_operand_ ? 2 : 1; }
    /// Opcodes whose lowest bit says "not bytes".
    [[nodiscard]] unsigned size_by(std::uint8_t opcode) const { return (opcode & 1U) == 0 ? 0 : size(); }

    /// LOCK stands before what reads, changes and writes memory, and nothing else (SDM volume 2, LOCK).
    [[nodiscard]] bool may_lock() const {
        if (!memory_) return false;
        if (second_) {
            if (first_ == 0xBA) return field_ > 4;
            return first_ == 0xAB || first_ == 0xB3 || first_ == 0xBB || (first_ & 0xFEU) == 0xB0 ||
                   (first_ & 0xFEU) == 0xC0 || first_ == 0xC7;
        }
        if (first_ < 0x38) return (first_ & 7U) < 2;
        switch (first_ & 0xFEU) {
            case 0x80:
            case 0x82: return field_ != 7;
            case 0x86: return true;
            case 0xF6: return field_ == 2 || field_ == 3;
            case 0xFE: return field_ < 2;
            default: return false;
        }
    }

    std::uint8_t fetch() {
        const std::uint32_t offset = eip_ + at_;
        if (at_ >= most_bytes || offset > cpu_.segments[CS].last || offset < eip_) throw Unreachable{};
        ++at_;
        return cpu_.memory.load<std::uint8_t>(cpu_.segments[CS].base + offset);
    }
    std::uint16_t fetch_word() {
        const unsigned low = fetch();
        return static_cast<std::uint16_t>(low | unsigned{fetch()} << 8U);
    }
    std::uint32_t fetch_double() {
        const std::uint32_t low = fetch_word();
        return low | std::uint32_t{fetch_word()} << 16U;
    }
    /// As wide as `size`; signed bytes where `short_form`.
    std::uint32_t fetch_immediate(unsigned size, bool short_form = false) {
        if (short_form) return extended(fetch());
        return size == 0 ? fetch() : size == 1 ? fetch_word() : fetch_double();
    }

    void prefixes() {
        for (;;) {
            first_ = fetch();
            switch (first_) {
                case 0x26: override_ = ES; break;
                case 0x2E: override_ = CS; break;
                case 0x36: override_ = SS; break;
                case 0x3E: override_ = DS; break;
                case 0x64: override_ = FS; break;
                case 0x65: override_ = GS; break;
                case 0x66: wide_operand_ = !cpu_.segments[CS].big; break;
                case 0x67: wide_address_ = !cpu_.segments[CS].big; break;
                case 0xF0: lock_ = true; break;
                case 0xF2:
                case 0xF3: op().repeat = first_; break;
                default:
                    op().mask = wide_address_ ? 0xFFFFFFFFU : 0xFFFFU;
                    op().segment = override_.value_or(DS);
                    return;
            }
        }
    }

    // --- operands

    /// The byte behind the opcode; the operand that it describes.
    void modrm(bool bytes = false) {
        const std::uint8_t value = fetch();
        mode_ = value >> 6U;
        field_ = value >> 3U & 7U;
        memory_ = mode_ != 3;
        op().reg = bytes ? place_of_byte(field_) : static_cast<std::uint8_t>(field_);
        const unsigned rm = value & 7U;
        if (!memory_) op().rm = bytes ? place_of_byte(rm) : static_cast<std::uint8_t>(rm);
        else if (wide_address_) wide_operand_address(rm);
        else narrow_operand_address(rm);
    }
    static std::uint8_t place_of_byte(unsigned number) {
        return static_cast<std::uint8_t>(number < 4 ? number * 4 : (number - 4) * 4 + 1);
    }
    void narrow_operand_address(unsigned rm) {
        static constexpr std::uint8_t bases[] = {EBX, EBX, EBP, EBP, 8, 8, EBP, EBX};
        static constexpr std::uint8_t indexes[] = {ESI, EDI, ESI, EDI, ESI, EDI, 8, 8};
        op().base = bases[rm];
        op().index = indexes[rm];
        if (rm == 6 && mode_ == 0) {
            op().base = 8;
            op().displacement = fetch_word();
        } else if (mode_ == 1) op().displacement = extended(fetch());
        else if (mode_ == 2) op().displacement = fetch_word();
        if (!override_ && op().base == EBP) op().segment = SS;
    }
    void wide_operand_address(unsigned rm) {
        op().base = static_cast<std::uint8_t>(rm);
        if (rm == 4) {
            const std::uint8_t sib = fetch();
            const unsigned index = sib >> 3U & 7U, base = sib & 7U;
            op().scale = sib >> 6U;
            op().index = index == 4 ? 8 : static_cast<std::uint8_t>(index);
            op().base = static_cast<std::uint8_t>(base);
            if (base == 5 && mode_ == 0) {
                op().base = 8;
                op().displacement = fetch_double();
            }
        } else if (rm == 5 && mode_ == 0) {
            op().base = 8;
            op().displacement = fetch_double();
        }
        if (mode_ == 1) op().displacement = extended(fetch());
        else if (mode_ == 2) op().displacement = fetch_double();
        if (!override_ && (op().base == ESP || op().base == EBP)) op().segment = SS;
    }
    void absolute_operand() {
        op().displacement = wide_address_ ? fetch_double() : fetch_word();
        op().base = op().index = 8;
    }

    // --- opcodes

    /// 00 to 3F: eight operations in six forms each, with segment registers and decimal adjustment between.
    void arithmetic_row() {
        const auto what = static_cast<Alu>(first_ >> 3U & 7U);
        const unsigned form = first_ & 7U;
        const unsigned width = size_by(first_);
        if (form < 4) {
            modrm(width == 0);
            if (form < 2) op().run = alu(what, width, Source::Register, memory_);
            else if (memory_) op().run = alu_from_memory(what, width);
            else {
                std::swap(op().reg, op().rm);
                op().run = alu(what, width, Source::Register, false);
            }
        } else if (form < 6) {
            op().rm = EAX;
            op().immediate = fetch_immediate(width);
            op().run = alu(what, width, Source::Immediate, false);
        } else if (first_ >= 0x20) {
            op().run = decimal(first_);
        } else {
            op().reg = static_cast<std::uint8_t>(first_ >> 3U & 3U);
            op().run = form == 6 ? push_segment(size()) : pop_segment(size());
            if (form == 7 && op().reg == SS) ends();
        }
    }

    void opcode() {
        if (first_ == 0x0F) return second_opcode();
        if (first_ < 0x40) return arithmetic_row();
        const unsigned low = first_ & 7U;
        switch (first_ & 0xF8U) {
            case 0x40:
            case 0x48:
                op().rm = static_cast<std::uint8_t>(low);
                op().run = unary(first_ < 0x48 ? Unary::Inc : Unary::Dec, size(), false);
                return;
            case 0x50:
            case 0x58:
                op().rm = static_cast<std::uint8_t>(low);
                op().run = first_ < 0x58 ? push_register(size()) : pop_register(size());
                return;
            case 0x70:
            case 0x78:
                op().immediate = extended(fetch());
                op().run = jump_if(first_ & 15U, size());
                return;
            case 0x90:
                op().reg = EAX;
                op().rm = static_cast<std::uint8_t>(low);
                op().run = low == 0 ? nothing() : exchange(size(), false);
                return;
            case 0xB0:
                op().rm = place_of_byte(low);
                op().immediate = fetch();
                op().run = move_immediate(0, false);
                return;
            case 0xB8:
                op().rm = static_cast<std::uint8_t>(low);
                op().immediate = fetch_immediate(size());
                op().run = move_immediate(size(), false);
                return;
            case 0xD8:
                // No coprocessor is there: its instructions are passed over.
                modrm();
                op().run = nothing();
                return;
            case 0xE0: return loops_and_ports();
            case 0xE8: return jumps_and_ports();
            default: break;
        }
        if (first_ < 0x70) stack_and_ports();
        else if (first_ < 0x90) operations_and_moves();
        else if (first_ < 0xC0) accumulator_row();
        else if (first_ < 0xE0) shifts_and_returns();
        else last_row();
    }

    void stack_and_ports() {
        switch (first_) {
            case 0x60: op().run = push_all(size()); break;
            case 0x61: op().run = pop_all(size()); break;
            case 0x62:
                modrm();
                op().run = memory_ ? check_bounds(size()) : undefined();
                break;
            case 0x63:
                modrm();
                op().run = adjust_privilege(memory_);
                break;
            case 0x68:
            case 0x6A:
                op().immediate = fetch_immediate(size(), first_ == 0x6A);
                op().run = push_immediate(size());
                break;
            case 0x69:
            case 0x6B:
                modrm();
                op().immediate = fetch_immediate(size(), first_ == 0x6B);
                op().run = multiply(size(), true, memory_);
                break;
            case 0x6C:
            case 0x6D:
            case 0x6E:
            case 0x6F: strings(); break;
            default: op().run = undefined(); break;
        }
    }

    void strings() {
        op().run = string(first_, size_by(first_), wide_address_);
        if (op().repeat != 0) ends();
    }

    void operations_and_moves() {
        const unsigned width = size_by(first_);
        switch (first_) {
            case 0x80:
            case 0x81:
            case 0x82:
            case 0x83:
                modrm(width == 0);
                op().immediate = fetch_immediate(width, first_ == 0x83);
                op().run = alu(static_cast<Alu>(field_), width, Source::Immediate, memory_);
                break;
            case 0x84:
            case 0x85:
                modrm(width == 0);
                op().run = alu(Alu::Test, width, Source::Register, memory_);
                break;
            case 0x86:
            case 0x87:
                modrm(width == 0);
                op().run = exchange(width, memory_);
                break;
            case 0x88:
            case 0x89:
                modrm(width == 0);
                op().run = move(width, memory_);
                break;
            case 0x8A:
            case 0x8B:
                modrm(width == 0);
                if (!memory_) std::swap(op().reg, op().rm);
                op().run = memory_ ? move_load(width) : move(width, false);
                break;
            case 0x8C:
            case 0x8E:
                modrm();
                op().run = field_ > GS || (first_ == 0x8E && field_ == CS)
                               ? undefined()
                               : move_segment(first_ == 0x8E, size(), memory_);
                break;
            case 0x8D:
                modrm();
                op().run = memory_ ? load_address(size()) : undefined();
                break;
            default:  // 8F
                modrm();
                if (memory_ && op().base == ESP && wide_address_) op().displacement += wide_operand_ ? 4 : 2;
                op().run = field_ == 0 ? pop_operand(size(), memory_) : undefined();
                break;
        }
    }

    void accumulator_row() {
        const unsigned width = size_by(first_);
        switch (first_) {
            case 0x98:
            case 0x99: op().run = convert(first_ == 0x99, size()); break;
            case 0x9A:
                op().immediate = fetch_immediate(size());
                op().second = fetch_word();
                op().run = call_far(size());
                ends();
                break;
            case 0x9B: op().run = nothing(); break;  // WAIT
            case 0x9C: op().run = push_flags(size()); break;
            case 0x9D: op().run = pop_flags(size()); break;
            case 0x9E:
            case 0x9F: op().run = flag_operation(first_); break;
            case 0xA0:
            case 0xA1:
                absolute_operand();
                op().reg = EAX;
                op().run = move_load(width);
                break;
            case 0xA2:
            case 0xA3:
                absolute_operand();
                op().reg = EAX;
                op().run = move(width, true);
                break;
            case 0xA8:
            case 0xA9:
                op().rm = EAX;
                op().immediate = fetch_immediate(width);
                op().run = alu(Alu::Test, width, Source::Immediate, false);
                break;
            default: strings(); break;
        }
    }

    void shifts_and_returns() {
        const unsigned width = size_by(first_);
        switch (first_) {
            case 0xC0:
            case 0xC1:
                modrm(width == 0);
                op().immediate = fetch();
                op().run = shift(static_cast<Shift>(field_), width, Count::Immediate, memory_);
                break;
            case 0xC2:
            case 0xC3:
                op().immediate = first_ == 0xC2 ? fetch_word() : 0;
                op().run = return_near(size());
                ends();
                break;
            case 0xC4:
            case 0xC5:
                modrm();
                op().second = first_ == 0xC4 ? ES : DS;
                op().run = memory_ ? load_far(size()) : undefined();
                break;
            case 0xC6:
            case 0xC7:
                modrm(width == 0);
                op().immediate = fetch_immediate(width);
                op().run = field_ == 0 ? move_immediate(width, memory_) : undefined();
                break;
            case 0xC8:
                op().immediate = fetch_word();
                op().second = fetch();
                op().run = enter(size());
                break;
            case 0xC9: op().run = leave_frame(size()); break;
            case 0xCA:
            case 0xCB:
                op().immediate = first_ == 0xCA ? fetch_word() : 0;
                op().run = return_far(size());
                ends();
                break;
            case 0xCC:
            case 0xCD:
            case 0xCE:
                op().immediate = first_ == 0xCC ? 3 : first_ == 0xCD ? fetch() : 4;
                op().run = software_interrupt(first_);
                ends();
                break;
            case 0xCF:
                op().run = return_interrupt(size());
                ends();
                break;
            case 0xD0:
            case 0xD1:
            case 0xD2:
            case 0xD3:
                modrm(width == 0);
                op().run = shift(static_cast<Shift>(field_), width, first_ < 0xD2 ? Count::One : Count::Cl, memory_);
                break;
            case 0xD4:
            case 0xD5:
                op().immediate = fetch();
                op().run = decimal(first_);
                break;
            case 0xD6: op().run = flag_operation(first_); break;
            default:  // D7
                op().run = translate();
                break;
        }
    }

    void loops_and_ports() {
        if (first_ < 0xE4) {
            op().immediate = extended(fetch());
            op().run = loop(first_, size());
            return ends();
        }
        op().immediate = fetch();
        op().run = port(first_, size_by(first_));
    }

    void jumps_and_ports() {
        switch (first_) {
            case 0xE8:
            case 0xE9:
            case 0xEB:
                op().immediate = fetch_immediate(size(), first_ == 0xEB);
                op().run = first_ == 0xE8 ? call_near(size()) : jump_near(size());
                return ends();
            case 0xEA:
                op().immediate = fetch_immediate(size());
                op().second = fetch_word();
                op().run = jump_far(size());
                return ends();
            default: op().run = port(first_, size_by(first_)); return;
        }
    }

    void last_row() {
        const unsigned width = size_by(first_);
        switch (first_) {
            case 0xF1:
                op().immediate = 1;
                op().run = software_interrupt(first_);
                return ends();
            case 0xF4: op().run = halt(); return ends();
            case 0xF6:
            case 0xF7:
                modrm(width == 0);
                if (field_ < 2) {
                    op().immediate = fetch_immediate(width);
                    op().run = alu(Alu::Test, width, Source::Immediate, memory_);
                } else {
                    op().run = unary(static_cast<Unary>(field_), width, memory_);
                }
                return;
            case 0xFE:
                modrm(true);
                op().run = field_ < 2 ? unary(static_cast<Unary>(field_), 0, memory_) : undefined();
                return;
            case 0xFF:
                modrm();
                if (field_ < 2) op().run = unary(static_cast<Unary>(field_), size(), memory_);
                else if (field_ == 2) op().run = call_operand(size(), memory_);
                else if (field_ == 3) op().run = memory_ ? call_far_operand(size()) : undefined();
                else if (field_ == 4) op().run = jump_operand(size(), memory_);
                else if (field_ == 5) op().run = memory_ ? jump_far_operand(size()) : undefined();
                else if (field_ == 6) op().run = memory_ ? push_operand(size()) : push_register(size());
                else op().run = undefined();
                if (field_ >= 2 && field_ <= 5) ends();
                return;
            default:  // F5, F8 to FD
                op().run = flag_operation(first_);
                return;
        }
    }

    // --- behind 0F

    void second_opcode() {
        first_ = fetch();
        second_ = true;
        const unsigned low = first_ & 15U;
        switch (first_ & 0xF0U) {
            case 0x00: return descriptors();
            case 0x10:
                // Hints and what later CPUs added in this row; only the hints are instructions of an ordinary CPU.
                if (first_ < 0x18) return unknown();
                modrm();
                op().run = nothing();
                return;
            case 0x20: return control();
            case 0x30:
                if (first_ == 0x30 || first_ == 0x32) op().run = model_register(first_ == 0x30);
                else unknown();
                return;
            case 0x40:
                modrm();
                op().run = move_if(low, size(), memory_);
                return;
            case 0x80:
                op().immediate = fetch_immediate(size());
                op().run = jump_if(low, size());
                return;
            case 0x90:
                modrm(true);
                op().run = set_if(low, memory_);
                return;
            case 0xA0: return double_shifts();
            case 0xB0: return bits_and_extensions();
            case 0xC0: return of_the_80486();
            default: return unknown();
        }
    }
    void unknown() { op().run = undefined(); }

    void descriptors() {
        switch (first_) {
            case 0x00:
                modrm();
                op().run = descriptor_group(field_, size(), memory_);
                break;
            case 0x01:
                modrm();
                op().run = table_group(field_, size(), memory_);
                if (field_ == 6) ends();
                break;
            case 0x02:
            case 0x03:
                modrm();
                op().run = descriptor_query(first_ == 0x03, size(), memory_);
                break;
            case 0x06: op().run = clear_task_switched(); break;
            case 0x08:
            case 0x09: op().run = nothing(); break;  // caches
            default: unknown(); break;
        }
    }
    void control() {
        if (first_ > 0x23) return unknown();
        const std::uint8_t value = fetch();
        op().reg = value >> 3U & 7U;
        op().rm = value & 7U;
        op().run = (first_ & 1U) == 0 ? control_register(first_ == 0x22) : debug_register(first_ == 0x23);
        if (first_ == 0x22) ends();
    }
    void double_shifts() {
        switch (first_) {
            case 0xA0:
            case 0xA8:
            case 0xA1:
            case 0xA9:
                op().reg = first_ < 0xA8 ? FS : GS;
                op().run = (first_ & 1U) == 0 ? push_segment(size()) : pop_segment(size());
                break;
            case 0xA2: op().run = identify(); break;
            case 0xA3:
            case 0xAB:
                modrm();
                op().run = bit_test(first_ == 0xA3 ? BitTest::Test : BitTest::Set, size(), false, memory_);
                break;
            case 0xA4:
            case 0xA5:
            case 0xAC:
            case 0xAD:
                modrm();
                if ((first_ & 1U) == 0) op().immediate = fetch();
                op().run = double_shift(first_ < 0xA8, size(), (first_ & 1U) != 0, memory_);
                break;
            case 0xAF:
                modrm();
                op().run = multiply(size(), false, memory_);
                break;
            default: unknown(); break;
        }
    }
    void bits_and_extensions() {
        switch (first_) {
            case 0xB0:
            case 0xB1:
                modrm(first_ == 0xB0);
                op().run = compare_exchange(size_by(first_), memory_);
                break;
            case 0xB2:
            case 0xB4:
            case 0xB5:
                modrm();
                op().second = first_ == 0xB2 ? SS : first_ == 0xB4 ? FS : GS;
                op().run = memory_ ? load_far(size()) : undefined();
                if (first_ == 0xB2) ends();
                break;
            case 0xB3:
            case 0xBB:
                modrm();
                op().run = bit_test(first_ == 0xB3 ? BitTest::Reset : BitTest::Complement, size(), false, memory_);
                break;
            case 0xB6:
            case 0xBE:
            case 0xB7:
            case 0xBF: {
                const bool from_byte = (first_ & 1U) == 0;
                modrm(from_byte);
                op().reg = static_cast<std::uint8_t>(field_);
                op().run = move_extended(from_byte ? 0 : 1, size(), first_ >= 0xB8, memory_);
                break;
            }
            case 0xBA:
                modrm();
                op().immediate = fetch();
                op().run = field_ < 4 ? undefined() : bit_test(static_cast<BitTest>(field_ - 4), size(), true, memory_);
                break;
            case 0xBC:
            case 0xBD:
                modrm();
                op().run = bit_scan(first_ == 0xBD, size(), memory_);
                break;
            default: unknown(); break;
        }
    }
    void of_the_80486() {
        if (first_ >= 0xC8) {
            op().rm = first_ & 7U;
            op().run = byte_swap();
            return;
        }
        if (first_ > 0xC1 && first_ != 0xC7) return unknown();
        modrm(first_ == 0xC0);
        if (first_ == 0xC7) op().run = field_ == 1 ? compare_exchange_8(memory_) : undefined();
        else op().run = exchange_add(size_by(first_), memory_);
    }

    const Cpu& cpu_;
    std::uint32_t eip_;
    unsigned at_ = 0;
    std::uint8_t first_ = 0;
    bool wide_operand_ = false, wide_address_ = false;
    bool lock_ = false, second_ = false;
    std::optional<std::uint8_t> override_;
    unsigned mode_ = 0, field_ = 0;
    bool memory_ = false;
    Decoded out_;
};

}  // namespace

Decoded decode(const Cpu& cpu, std::uint32_t eip) { return Decoder(cpu, eip).run(); }

}  // namespace herberge::rehearsal
