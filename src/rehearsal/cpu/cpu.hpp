// SPDX-License-Identifier: MIT
// A 16- and 32-bit x86 CPU: real mode and protected mode without paging, the integer instructions of the 80386 and
// 80486 with those of later ones that compilers and loaders use (Intel SDM, volumes 2 and 3). Instructions are decoded
// once, in runs that end with a jump that is always taken, and executed from there until their bytes are written. It
// reaches memory through Memory and ports through CpuPorts alone, so that nothing a program does leaves them.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "rehearsal/memory.hpp"

namespace herberge::rehearsal {

enum Register : std::uint8_t { EAX, ECX, EDX, EBX, ESP, EBP, ESI, EDI };
enum SegmentRegister : std::uint8_t { ES, CS, SS, DS, FS, GS };

namespace flag {
inline constexpr std::uint32_t carry = 1U << 0U, parity = 1U << 2U, adjust = 1U << 4U, zero = 1U << 6U, sign = 1U << 7U,
                               trap = 1U << 8U, interrupt = 1U << 9U, direction = 1U << 10U, overflow = 1U << 11U,
                               nested = 1U << 14U, resume = 1U << 16U, virtual_8086 = 1U << 17U, check = 1U << 18U,
                               id = 1U << 21U, always = 1U << 1U;
inline constexpr std::uint32_t arithmetic = carry | parity | adjust | zero | sign | overflow;
}  // namespace flag

/// A segment register with what its descriptor said (SDM volume 3, section 3.4.3).
struct Segment {
    std::uint16_t selector = 0;
    std::uint32_t base = 0;
    std::uint32_t first = 0, last = 0xFFFF;  ///< offsets that lie inside; first > last: none does
    bool can_read = true, can_write = true;
    bool big = false;             ///< of code: 32-bit; of a stack: ESP counts
    std::uint16_t access = 0x93;  ///< byte 5 of the descriptor, and the upper half of byte 6 above it
};

/// A table register.
struct TableRegister {
    std::uint32_t base = 0;
    std::uint32_t limit = 0xFFFF;
    std::uint16_t selector = 0;  ///< of LDTR and TR
};

/// What the CPU sees of the machine besides memory.
class CpuPorts {
public:
    virtual ~CpuPorts() = default;
    /// `size`: 1, 2 or 4 bytes.
    virtual std::uint32_t port_in(std::uint16_t port, unsigned size) = 0;
    virtual void port_out(std::uint16_t port, std::uint32_t value, unsigned size) = 0;
    /// The leaf in EAX; answers EAX, EBX, ECX, EDX.
    virtual std::array<std::uint32_t, 4> cpuid(std::uint32_t leaf) = 0;
};

/// An exception on its way to its handler.
struct CpuFault {
    std::uint8_t vector = 0;
    std::optional<std::uint16_t> error;  ///< the code pushed in protected mode
};

/// Why execution cannot go on.
enum class CpuStop : std::uint8_t {
    None,
    Halted,       ///< HLT
    Fault,        ///< an exception that has no handler
    Unsupported,  ///< paging, task switches, other privileges, virtual 8086 mode
};

class Cpu;
/// One decoded instruction.
struct Operation {
    void (*run)(Cpu&, const Operation&) = nullptr;
    std::uint32_t immediate = 0;
    std::uint32_t displacement = 0;
    std::uint32_t mask = 0xFFFFFFFF;              ///< of an effective address: 16 or 32 bits
    std::uint16_t second = 0;                     ///< selector of a far pointer, nesting of ENTER
    std::uint16_t end = 0;                        ///< bytes from the run's begin to the next instruction
    std::uint8_t base = 8, index = 8, scale = 0;  ///< 8: none
    std::uint8_t segment = DS;
    std::uint8_t reg = 0, rm = 0;  ///< registers; of bytes, their place among the registers' bytes
    std::uint8_t length = 0;       ///< bytes
    std::uint8_t repeat = 0;       ///< the prefix F2 or F3, else 0
};

class Cpu {
public:
    Cpu(Memory& memory, CpuPorts& ports);
    ~Cpu();
    Cpu(const Cpu&) = delete;
    Cpu& operator=(const Cpu&) = delete;

    /// Runs instructions from CS:EIP on up to the next jump that is taken, or fewer; how many were executed. Zero only
    /// when it stops.
    std::uint32_t run();
    /// Where run_on() gives control back at the latest: a few instructions behind it, or elements of a repeated one.
    struct Stretch {
        std::uint64_t instructions = 0;
        std::uint64_t work = 0;     ///< of take_work()
        std::uint32_t watched = 0;  ///< the linear address of an instruction
    };
    /// Runs while nothing happens that a machine around it looks for: control stays within one block of 512 bytes,
    /// behind its first one and not at offset 0, in one segment and mode, no exception is raised, and four zero bytes
    /// are not run. How many were executed; zero only when it stops.
    std::uint64_t run_on(const Stretch& stretch);
    /// Instructions of run() and run_on() since the CPU was made, also while one of them asks a port.
    [[nodiscard]] std::uint64_t executed() const { return executed_; }
    /// One instruction, decoded anew.
    void step();
    [[nodiscard]] CpuStop stopped() const { return stop_; }
    /// For people, of CpuStop::Fault and CpuStop::Unsupported.
    [[nodiscard]] const std::string& why() const { return why_; }
    /// Goes on behind HLT.
    void wake() { stop_ = stop_ == CpuStop::Halted ? CpuStop::None : stop_; }
    /// What run() did besides its instructions since the last call: elements of repeated ones, exceptions, decoding.
    [[nodiscard]] std::uint64_t take_work() {
        const auto out = work_;
        work_ = 0;
        return out;
    }

    // --- state
    [[nodiscard]] bool protected_mode() const { return (cr0 & 1U) != 0; }
    [[nodiscard]] std::uint32_t linear() const { return segments[CS].base + eip; }
    [[nodiscard]] std::uint32_t eflags() const;
    void set_eflags(std::uint32_t value);
    /// In real mode: as MOV to a segment register.
    void load_real(SegmentRegister which, std::uint16_t selector);
    /// Code may have changed behind the CPU's back: the line A20 was switched.
    void forget_code();

    [[nodiscard]] std::uint8_t& byte(unsigned place) { return reinterpret_cast<std::uint8_t*>(gpr.data())[place]; }
    [[nodiscard]] std::uint16_t word(unsigned number) const { return static_cast<std::uint16_t>(gpr[number]); }
    void set_word(unsigned number, std::uint16_t value) { gpr[number] = (gpr[number] & 0xFFFF0000U) | value; }

    std::array<std::uint32_t, 9> gpr{};  ///< the last one stays 0
    std::uint32_t eip = 0;
    std::array<Segment, 6> segments{};
    TableRegister gdt{0, 0, 0}, idt{0, 0x3FF, 0}, ldt{0, 0, 0}, task{0, 0, 0};
    std::uint32_t cr0 = 0x10, cr2 = 0, cr3 = 0, cr4 = 0;
    std::array<std::uint32_t, 8> debug{};

    // --- for instructions (operations.hpp)
    /// A run of decoded instructions.
    struct Run {
        std::uint32_t linear = 0;  ///< where it begins
        std::uint32_t bytes = 0;
        bool big = false;
        bool zeros = false;  ///< it begins with four bytes of zero
        std::vector<Operation> operations;
    };

    // Flags of arithmetic, in parts: see operations.hpp.
    std::uint32_t zero_of = 1, sign_of = 0, parity_of = 1, carries = 0, adjust_of = 0;
    std::uint32_t other_flags = flag::always;  ///< all that are not of arithmetic

    Memory& memory;
    CpuPorts& ports;
    /// The offset from which the operations of the current run count.
    std::uint32_t run_eip = 0;
    /// Why the run ends behind an instruction: it was written over, or the mode or segment changed; a jump within it
    /// was taken, and EIP stands where it goes.
    static constexpr std::uint8_t turned = 1, jumped = 2;
    std::uint8_t leave = 0;
    bool trapped = false;  ///< exception 1 follows this instruction (SDM volume 3, section 17.3.1.4)
    void stop(CpuStop why, std::string text = {});
    void add_work(std::uint64_t elements) { work_ += elements; }
    [[noreturn]] static void raise(std::uint8_t vector, std::optional<std::uint16_t> error = std::nullopt) {
        throw CpuFault{vector, error};
    }
    void deliver(std::uint8_t vector, std::optional<std::uint16_t> error, bool software);

private:
    Run* find();
    [[nodiscard]] bool fits(const Run& run) const;
    Run* find_slowly(std::uint32_t address);
    std::unique_ptr<Run> decode_run(bool& unreachable) const;
    std::uint32_t execute(const Run& run);
    std::uint32_t step_trapped();
    void discard(std::uint32_t address);
    void on_fault(const CpuFault& fault);

    struct Cached {
        std::uint32_t address = ~std::uint32_t{0};
        bool big = false;
        Run* run = nullptr;
    };
    static constexpr std::size_t cache_size = 1U << 12U;
    std::vector<Cached> cache_;
    std::unordered_map<std::uint32_t, std::vector<std::unique_ptr<Run>>> pages_;  ///< by page of the run's begin
    std::vector<std::unique_ptr<Run>> retired_;  ///< written over while they may still run
    std::unique_ptr<Run> once_;                  ///< one that a segment's end cuts off: it is not kept
    std::size_t runs_ = 0;
    CpuStop stop_ = CpuStop::None;
    std::string why_;
    std::uint64_t work_ = 0, executed_ = 0;
    const Run* current_ = nullptr;
};

}  // namespace herberge::rehearsal
