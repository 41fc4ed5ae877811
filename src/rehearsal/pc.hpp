// SPDX-License-Identifier: MIT
// The emulated PC: CPU, memory, ports, and a BIOS answered from the images.
#pragma once

#include <array>
#include <deque>
#include <memory>
#include <unordered_map>

#include <herberge/rehearsal.hpp>

#include "rehearsal/cpu/cpu.hpp"
#include "rehearsal/memory.hpp"
#include "rehearsal/places.hpp"

namespace herberge::rehearsal {

inline constexpr std::uint32_t stub_segment = 0xF000;
inline constexpr std::uint32_t stub_offset = 0xE000;
/// A lone IRET outside the table of stubs: where a timer interrupt returns to.
inline constexpr std::uint32_t plain_return = 0xDFF0;
inline constexpr std::uint32_t boot_address = 0x7C00;

/// A register, or a part of one, that services read and write like a number.
template <class T>
class RegisterPart {
public:
    RegisterPart(Cpu& cpu, unsigned place) : cpu_(cpu), place_(place) {}
    RegisterPart(const RegisterPart&) = default;
    ~RegisterPart() = default;
    [[nodiscard]] T value() const {
        if constexpr (sizeof(T) == 1) return cpu_.byte(place_);
        else return static_cast<T>(cpu_.gpr[place_]);
    }
    operator T() const { return value(); }
    const RegisterPart& operator=(T value) const {
        if constexpr (sizeof(T) == 1) cpu_.byte(place_) = value;
        else if constexpr (sizeof(T) == 2) cpu_.set_word(place_, value);
        else cpu_.gpr[place_] = value;
        return *this;
    }
    const RegisterPart& operator=(const RegisterPart& other) const { return *this = other.value(); }

private:
    Cpu& cpu_;
    unsigned place_;
};

/// The registers by their names.
struct Registers {
    Cpu& cpu;
    using Byte = RegisterPart<std::uint8_t>;
    using Word = RegisterPart<std::uint16_t>;
    using Double = RegisterPart<std::uint32_t>;
    [[nodiscard]] Double eax() const { return {cpu, EAX}; }
    [[nodiscard]] Double ebx() const { return {cpu, EBX}; }
    [[nodiscard]] Double ecx() const { return {cpu, ECX}; }
    [[nodiscard]] Double edx() const { return {cpu, EDX}; }
    [[nodiscard]] Word ax() const { return {cpu, EAX}; }
    [[nodiscard]] Word bx() const { return {cpu, EBX}; }
    [[nodiscard]] Word cx() const { return {cpu, ECX}; }
    [[nodiscard]] Word dx() const { return {cpu, EDX}; }
    [[nodiscard]] Word sp() const { return {cpu, ESP}; }
    [[nodiscard]] Word bp() const { return {cpu, EBP}; }
    [[nodiscard]] Word si() const { return {cpu, ESI}; }
    [[nodiscard]] Word di() const { return {cpu, EDI}; }
    [[nodiscard]] Byte al() const { return {cpu, 4 * EAX}; }
    [[nodiscard]] Byte ah() const { return {cpu, 4 * EAX + 1}; }
    [[nodiscard]] Byte bl() const { return {cpu, 4 * EBX}; }
    [[nodiscard]] Byte bh() const { return {cpu, 4 * EBX + 1}; }
    [[nodiscard]] Byte cl() const { return {cpu, 4 * ECX}; }
    [[nodiscard]] Byte ch() const { return {cpu, 4 * ECX + 1}; }
    [[nodiscard]] Byte dl() const { return {cpu, 4 * EDX}; }
    [[nodiscard]] Byte dh() const { return {cpu, 4 * EDX + 1}; }
    [[nodiscard]] std::uint32_t base(SegmentRegister which) const { return cpu.segments[which].base; }
};

class Pc : private CpuPorts {
public:
    Pc(const Machine& machine, int boot_disk, const RehearsalOptions& options, Places places);
    Pc(const Pc&) = delete;
    Pc& operator=(const Pc&) = delete;
    Pc(Pc&&) = delete;
    Pc& operator=(Pc&&) = delete;
    ~Pc() override = default;

    Rehearsal run();

private:
    struct Drive {
        const Disk* disk = nullptr;
        std::shared_ptr<Overlay> overlay;
        std::uint32_t cylinders = 0, heads = 255, sectors = 63;
        std::uint32_t sector = 512;  ///< bytes; 2048 for an optical drive
    };
    /// A piece of memory filled by one read.
    struct Region {
        DiskRange range;
        Lies lies;
        std::uint32_t address = 0;
        bool entered = false;
    };

    // --- memory and ports (pc.cpp)
    void power_on();
    std::uint32_t port_in(std::uint16_t port, unsigned size) override;
    void port_out(std::uint16_t port, std::uint32_t value, unsigned size) override;
    std::array<std::uint32_t, 4> cpuid(std::uint32_t leaf) override;
    std::uint8_t byte_from(std::uint16_t port);
    void byte_to(std::uint16_t port, std::uint8_t value);
    void set_a20(bool on);
    [[nodiscard]] std::uint8_t peek8(std::uint32_t a) const { return memory_.load<std::uint8_t>(a); }
    [[nodiscard]] std::uint16_t peek16(std::uint32_t a) const { return memory_.load<std::uint16_t>(a); }
    [[nodiscard]] std::uint32_t peek32(std::uint32_t a) const { return memory_.load<std::uint32_t>(a); }
    void poke8(std::uint32_t a, unsigned v) { memory_.store(a, static_cast<std::uint8_t>(v)); }
    void poke16(std::uint32_t a, unsigned v) { memory_.store(a, static_cast<std::uint16_t>(v)); }
    void poke32(std::uint32_t a, std::uint32_t v) { memory_.store(a, v); }
    /// Budgets, services, what is entered; false: the run has ended, or control is elsewhere.
    bool before_run();
    void run_code();
    void stopped();
    bool is_empty(std::uint32_t linear) const;
    /// Takes `operations` from the run's one budget; false: it is used up, and the run has ended.
    bool spend(std::uint64_t operations);
    void record_text(char c);
    std::uint16_t copied_from(std::uint32_t linear);
    void remember(std::uint16_t region, const std::vector<std::uint8_t>& bytes);
    void enter_region(std::uint16_t id, std::uint32_t linear);
    bool kernel_entry(std::uint32_t linear);
    void unpacked_entered();
    void leave_entry(std::uint64_t sector);
    bool load_first_sector();
    bool load_boot_image();
    void finish(RehearsalEnd end, std::string text);
    void event(RehearsalEventKind kind, std::string text);
    void flush_text();
    [[nodiscard]] double seconds() const { return static_cast<double>(quarter_ticks_) / 4 / 18.2065; }
    void pass_time(std::uint64_t quarter_ticks);
    [[nodiscard]] bool protected_mode() const { return cpu_.protected_mode(); }

    // --- services (bios.cpp)
    void service(unsigned number);
    void timer(std::uint32_t back_segment, std::uint32_t back_offset);
    [[nodiscard]] bool hooked(unsigned vector) { return peek16(vector * 4 + 2) != stub_segment; }
    void video();
    void teletype(std::uint8_t c, std::uint8_t attribute, bool with_attribute);
    void scroll(unsigned top, unsigned left, unsigned bottom, unsigned right, unsigned lines, std::uint8_t attribute);
    void put_cell(unsigned row, unsigned column, std::uint8_t c, std::uint8_t attribute);
    [[nodiscard]] std::vector<std::string> screen();
    void disk_service();
    void disk_result(std::uint8_t status);
    bool transfer(Drive& drive, std::uint64_t lba, std::uint32_t count, std::uint32_t address, bool write);
    void system_service();
    void memory_map();
    void keyboard();
    void clock();
    bool key_ready();
    void set_flag(std::uint32_t which, bool on);
    void set_carry(bool on) { set_flag(flag::carry, on); }
    Drive* drive(std::uint8_t number);

    RehearsalOptions options_;
    Places places_;
    Memory memory_;
    Cpu cpu_;
    std::vector<std::uint16_t> region_of_;  ///< per 512 bytes of the first 16 MiB
    std::vector<Region> regions_;
    std::uint16_t current_region_ = 0;
    std::vector<Drive> drives_;
    std::optional<Drive> disc_;  ///< the optical drive that was started, as drive E0h
    CatalogueImage image_;       ///< … and what was started from it
    Rehearsal out_;
    bool finished_ = false;
    bool was_protected_ = false;
    std::uint64_t instructions_ = 0;
    std::uint64_t last_progress_ = 0;          ///< instruction of the last BIOS call
    std::uint64_t operations_ = 0;             ///< what was spent so far: instructions, bytes of services, searches
    std::uint64_t unspent_ = 0, counted_ = 0;  ///< work and instructions are spent in larger pieces
    std::uint64_t written_ = 0;                ///< bytes of disk writes
    std::uint64_t quarter_ticks_ = 0;
    std::uint64_t timer_ticks_ = 0;  ///< ticks for which the timer interrupt was delivered
    std::uint64_t polls_ = 0;        ///< key polls since the last disk read
    std::uint64_t halts_ = 0;
    std::uint64_t boots_ = 0;  ///< entries at 0000:7C00
    std::uint8_t last_status_ = 0;
    std::uint8_t video_mode_ = 3;
    std::uint8_t keyboard_command_ = 0;
    std::uint8_t cmos_index_ = 0;
    std::uint8_t refresh_ = 0;
    std::size_t next_key_ = 0;
    std::string pending_text_;
    std::uint64_t pending_instruction_ = 0;
    double pending_seconds_ = 0;
    /// What was read last, for recognising code that is copied before it runs.
    struct Recent {
        std::uint16_t region;
        std::vector<std::uint8_t> bytes;
    };
    std::deque<Recent> recent_;
    std::size_t recent_size_ = 0;
    std::array<std::uint32_t, 0x100000 / 512> examined_{};
    /// Code that came from no read, by its address: its begin.
    using Code = std::array<std::uint8_t, 48>;
    std::unordered_map<std::uint32_t, Code> unknown_;
    std::uint32_t last_linear_ = 0;
    std::uint8_t serial_scratch_ = 0;
    std::string serial_;
};

}  // namespace herberge::rehearsal
