// SPDX-License-Identifier: MIT
// CPU, memory, ports and the stop rules.
#include "rehearsal/pc.hpp"

#include <herberge/budget.hpp>

#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <utility>

namespace herberge::rehearsal {

namespace {

/// What an instruction costs of the budget, and at most of its own one: an element of a repeated one costs one.
constexpr std::uint64_t operations_of_instruction = 4, operations_per_instruction = 8;
constexpr std::uint64_t spent_at_once = 4096;
constexpr std::uint64_t operations_per_service = 50;
constexpr std::size_t most_text = 64U << 10U;
constexpr std::size_t most_events = 5000;
constexpr std::uint64_t most_boots = 8;
constexpr std::uint64_t most_halts = 200;  // without a read, a text or a key between them
constexpr std::size_t most_recent = 1U << 20U;

}  // namespace

Pc::Pc(const Machine& machine, int boot_disk, const RehearsalOptions& options, Places places)
    : options_(options),
      places_(std::move(places)),
      memory_(options.memory, options.touched_memory),
      cpu_(memory_, *this) {
    region_of_.resize((16U << 20U) / 512);
    regions_.emplace_back();  // number 0: not read from a disk
    auto add = [&](const Disk& disk) {
        Drive drive;
        drive.disk = &disk;
        drive.overlay = overlay(disk.source);
        drive.cylinders =
            static_cast<std::uint32_t>(std::clamp<std::uint64_t>(disk.source->size() / 512 / (255 * 63), 1, 1024));
        drives_.push_back(std::move(drive));
    };
    // The disk that is started is the BIOS's first one.
    const Disk* first = machine.disk(boot_disk);
    if (first != nullptr && !first->optical) add(*first);
    for (const auto& disk : machine.disks)
        if (disk.number != boot_disk && !disk.optical) add(disk);
    if (first != nullptr && first->optical) {
        Drive disc;
        disc.disk = first;
        disc.overlay = overlay(first->source);
        disc.sector = 2048;
        disc_ = std::move(disc);
    }
}

/// An ordinary CPU without a time-stamp counter, so that loaders measure time through the BIOS clock.
std::array<std::uint32_t, 4> Pc::cpuid(std::uint32_t leaf) {
    if (leaf == 0) return {1, 0x756E6547, 0x6C65746E, 0x49656E69};
    if (leaf == 1) return {0x663, 0, 0, (1U << 3U) | (1U << 6U) | (1U << 8U) | (1U << 13U) | (1U << 15U)};
    if (leaf == 0x80000000U) return {0x80000001U, 0, 0, 0};
    if (leaf == 0x80000001U) return {0, 0, 0, 1U << 29U};
    return {};
}

void Pc::set_a20(bool on) {
    if (on == memory_.a20()) return;
    memory_.set_a20(on);
    cpu_.forget_code();
    spend(operations_per_service);
}

std::uint32_t Pc::port_in(std::uint16_t port, unsigned size) {
    std::uint32_t out = 0;
    for (unsigned i = 0; i < size; ++i)
        out |= std::uint32_t{byte_from(static_cast<std::uint16_t>(port + i))} << (8 * i);
    return out;
}
void Pc::port_out(std::uint16_t port, std::uint32_t value, unsigned size) {
    for (unsigned i = 0; i < size; ++i)
        byte_to(static_cast<std::uint16_t>(port + i), static_cast<std::uint8_t>(value >> (8 * i)));
}

std::uint8_t Pc::byte_from(std::uint16_t port) {
    switch (port) {
        case 0x60: return 0;
        case 0x61: return refresh_ ^= 0x30U;
        case 0x64: return 0;  // nothing pending, ready for commands
        case 0x71: return cmos_index_ == 0x0A ? 0x26 : cmos_index_ == 0x0B ? 0x02 : 0;
        case 0x92: return memory_.a20() ? 2 : 0;
        case 0x3DA: return refresh_ ^= 0x09U;
        case 0x3FD: return 0x60;  // the serial line takes the next character
        case 0x3FF: return serial_scratch_;
        case 0x40:
        case 0x42: return static_cast<std::uint8_t>(cpu_.executed() >> 4U);
        case 0x20:
        case 0x21:
        case 0xA0:
        case 0xA1: return 0;
        default: return 0xFF;
    }
}

void Pc::byte_to(std::uint16_t port, std::uint8_t value) {
    switch (port) {
        case 0x60:
            if (keyboard_command_ == 0xD1) set_a20((value & 2U) != 0);
            keyboard_command_ = 0;
            break;
        case 0x64: keyboard_command_ = value; break;
        case 0x70: cmos_index_ = value & 0x7FU; break;
        case 0x92: set_a20((value & 2U) != 0); break;
        case 0x3F8:
            if (serial_.size() < most_text) serial_ += static_cast<char>(value);
            break;
        case 0x3FF: serial_scratch_ = value; break;
        default: break;
    }
}

void Pc::power_on() {
    for (std::uint32_t n = 0; n < 256; ++n) {
        poke16(n * 4, stub_offset + n * 4);
        poke16(n * 4 + 2, stub_segment);
        poke8(stub_segment * 16 + stub_offset + n * 4, 0xCF);  // IRET
    }
    poke8(stub_segment * 16 + plain_return, 0xCF);
    poke16(0x400, 0x3F8);   // one serial line
    poke16(0x410, 0x0220);  // equipment: 80x25 colour, one serial line, no FPU, no floppy
    poke16(0x413, 639);
    poke8(0x449, 3);
    poke16(0x44A, 80);
    poke16(0x44C, 4000);
    poke8(0x475, static_cast<unsigned>(drives_.size()));
    poke8(0x484, 24);
    poke16(0x463, 0x3D4);
    scroll(0, 0, 24, 79, 0, 7);
    cpu_.eip = boot_address;
    cpu_.gpr[ESP] = boot_address;
    cpu_.gpr[EDX] = 0x80;
    cpu_.set_eflags(flag::interrupt);
}

void Pc::finish(RehearsalEnd end, std::string text) {
    if (finished_) return;
    finished_ = true;
    flush_text();
    out_.end = end;
    out_.end_text = std::move(text);
    event(RehearsalEventKind::End, out_.end_text);
}

void Pc::event(RehearsalEventKind kind, std::string text) {
    if (kind != RehearsalEventKind::Text) flush_text();
    if (out_.events.size() >= most_events && kind != RehearsalEventKind::End) return;
    RehearsalEvent e;
    e.kind = kind;
    e.instruction = instructions_;
    e.seconds = seconds();
    e.text = std::move(text);
    out_.events.push_back(std::move(e));
}

void Pc::flush_text() {
    if (pending_text_.empty()) return;
    std::string text;
    text.swap(pending_text_);
    halts_ = 0;
    event(RehearsalEventKind::Text, std::move(text));
    if (out_.events.back().kind != RehearsalEventKind::Text) return;
    out_.events.back().instruction = pending_instruction_;
    out_.events.back().seconds = pending_seconds_;
}

/// A character for the record; the time of a text is that of its first one.
void Pc::record_text(char c) {
    last_progress_ = instructions_;
    if (pending_text_.empty()) {
        pending_instruction_ = instructions_;
        pending_seconds_ = seconds();
    }
    pending_text_ += c;
    out_.text += c;
    if (!options_.until_text.empty() && !finished_) {
        constexpr std::size_t enough = 12;
        const auto at = out_.text.find(options_.until_text);
        const auto more =
            at == std::string::npos ? at : out_.text.find_first_not_of(" \r\n", at + options_.until_text.size());
        if (more != std::string::npos && out_.text.size() - more >= enough)
            finish(RehearsalEnd::UntilReached, "the text goes on");
    }
}

void Pc::pass_time(std::uint64_t quarter_ticks) {
    quarter_ticks_ += quarter_ticks;
    poke32(0x46C, static_cast<std::uint32_t>(quarter_ticks_ / 4 + 0x00100000U));
}

/// A Linux kernel's entry: the set-up header lies where the boot protocol says (Documentation/x86/boot.rst).
bool Pc::kernel_entry(std::uint32_t linear) {
    constexpr std::uint32_t hdrs = 0x53726448;
    if (protected_mode()) {
        const std::uint32_t parameters = cpu_.gpr[ESI];
        if (linear < 0x100000 || parameters > 0xA0000 || peek32(parameters + 0x202) != hdrs) return false;
        const std::uint32_t entry = peek32(parameters + 0x214);
        return linear == entry || (linear >= 0x1000000 && linear % 0x200000 == 0);
    }
    // CS is 20h paragraphs above the set-up part, IP 0.
    const std::uint32_t segment = cpu_.segments[CS].selector;
    return cpu_.eip == 0 && segment > 0x20 && peek32((segment - 0x20) * 16 + 0x202) == hdrs;
}

/// Code that was read elsewhere and copied here: found by its content in what was read last.
std::uint16_t Pc::copied_from(std::uint32_t linear) {
    constexpr std::size_t most_unknown = 4096;
    Code code{};
    for (std::uint32_t i = 0; i < code.size(); ++i) code[i] = peek8(linear + i);
    // What stood there already when it was looked for in vain was not brought by a read since.
    if (const auto before = unknown_.find(linear); before != unknown_.end() && before->second == code) return 0;
    for (auto recent = recent_.rbegin(); recent != recent_.rend(); ++recent) {
        if (!spend(recent->bytes.size() / 4 + 16)) return 0;
        const void* hit = memmem(recent->bytes.data(), recent->bytes.size(), code.data(), code.size());
        if (hit == nullptr) continue;
        Region region = regions_[recent->region];
        const auto within =
            static_cast<std::uint64_t>(static_cast<const std::uint8_t*>(hit) - recent->bytes.data()) / 512 * 512;
        region.range = {region.range.disk, region.range.offset + within,
                        std::min<std::uint64_t>(512, region.range.length - within)};
        region.lies = places_.at(region.range.disk, region.range.offset);
        if (regions_.size() >= 0xFFFE) return 0;
        // What one read brought counts as entered once, wherever its parts have moved.
        region.entered = regions_[recent->region].entered;
        regions_[recent->region].entered = true;
        regions_.push_back(std::move(region));
        return static_cast<std::uint16_t>(regions_.size() - 1);
    }
    if (unknown_.size() >= most_unknown) unknown_.clear();
    unknown_[linear] = code;
    return 0;
}

void Pc::remember(std::uint16_t region, const std::vector<std::uint8_t>& bytes) {
    if (bytes.empty()) return;
    recent_.push_back({region, bytes});
    recent_size_ += bytes.size();
    while (recent_size_ > most_recent && recent_.size() > 1) {
        recent_size_ -= recent_.front().bytes.size();
        recent_.pop_front();
    }
}

void Pc::enter_region(std::uint16_t id, std::uint32_t linear) {
    // Unknown memory below 1 MiB is looked at once per block after each read.
    if (id == 0 && linear < 0x100000 && linear / 512 != stub_segment * 16 / 512) {
        auto& seen = examined_[linear / 512];
        if (seen != out_.reads + 1) {
            seen = static_cast<std::uint32_t>(out_.reads + 1);
            id = copied_from(linear);
            if (id != 0) region_of_[linear / 512] = id;
        }
    }
    current_region_ = id;
    if (id == 0 || regions_[id].entered) return;
    Region& region = regions_[id];
    region.entered = true;
    const Stage stage = region.lies.kind == PlaceKind::FirstSector  ? Stage::BootCode
                        : region.lies.kind == PlaceKind::BootSector ? Stage::BootSector
                                                                    : Stage::Loader;
    // Parts of one loader entered one after the other are one event.
    const auto* before = out_.last_transfer();
    if (before != nullptr && before->stage == stage && before->lies_in == region.lies.text && stage == Stage::Loader &&
        before->range && before->range->offset <= region.range.offset && region.lies.kind == PlaceKind::File)
        return;
    event(RehearsalEventKind::Transfer, fmt::format("code from {} runs", region.lies.text));
    auto& e = out_.events.back();
    if (e.kind != RehearsalEventKind::Transfer) return;
    e.range = region.range;
    e.lies_in = region.lies.text;
    e.lies_in_kind = region.lies.kind;
    e.address = linear;
    e.stage = stage;
    if (options_.until && stage == *options_.until)
        finish(RehearsalEnd::UntilReached, fmt::format("the stage {} was reached", stage_id(stage)));
}

bool Pc::spend(std::uint64_t operations) {
    operations_ += operations;
    if (auto* budget = current_budget(); budget != nullptr && !budget->spend(Cost::Steps, operations)) {
        finish(RehearsalEnd::Limit, "stopped: what the whole walk may cost is used up");
        return false;
    }
    if (operations_ / operations_per_instruction <= options_.most_instructions) return true;
    finish(RehearsalEnd::Limit,
           fmt::format("stopped after {} instructions and {} accesses to memory", instructions_, operations_));
    return false;
}

/// Sixteen zero bytes are no code: what follows would not be the same on any two machines.
bool Pc::is_empty(std::uint32_t linear) const {
    for (std::uint32_t i = 0; i < 16; i += 4)
        if (peek32(linear + i) != 0) return false;
    return true;
}

bool Pc::before_run() {
    if (finished_) return false;
    if (instructions_ >= options_.most_instructions) {
        finish(RehearsalEnd::Limit, fmt::format("stopped after {} instructions", options_.most_instructions));
        return false;
    }
    if (instructions_ - last_progress_ > options_.idle_instructions) {
        finish(RehearsalEnd::Loops,
               fmt::format("{} instructions without asking the firmware for anything", options_.idle_instructions));
        return false;
    }
    if (memory_.exhausted()) {
        finish(RehearsalEnd::Limit, "the code touches more memory than a rehearsal affords");
        return false;
    }
    const bool now_protected = protected_mode();
    const std::uint32_t linear = cpu_.linear();
    if (now_protected != was_protected_) {
        was_protected_ = now_protected;
        if (now_protected &&
            std::ranges::none_of(out_.events, [](const auto& e) { return e.kind == RehearsalEventKind::Mode; })) {
            event(RehearsalEventKind::Mode, "protected mode is entered");
            if (options_.stop_in_protected_mode) {
                finish(RehearsalEnd::UntilReached, "protected mode is entered: the loader's second part runs");
                return false;
            }
        }
    }
    const std::uint32_t eip = cpu_.eip;
    if (!now_protected && cpu_.segments[CS].selector == stub_segment && eip >= stub_offset &&
        eip < stub_offset + 0x400 && eip % 4 == 0) {
        if (!spend(operations_per_service)) return false;
        service((eip - stub_offset) / 4);
        // The timer interrupt comes when the firmware gives control back; its own return is a lone IRET.
        if (!finished_) timer(stub_segment, plain_return);
        return !finished_;
    }
    const std::uint16_t id = linear / 512 < region_of_.size() ? region_of_[linear / 512] : std::uint16_t{0};
    if (linear == boot_address && !now_protected &&
        (last_linear_ < boot_address || last_linear_ >= boot_address + 512)) {
        // Started from elsewhere: a fresh sector was put there, or the old one runs once more.
        ++boots_;
        if (boots_ > most_boots) {
            finish(RehearsalEnd::Loops, "the sector at 0000:7C00 is started again and again");
            return false;
        }
    }
    if (id != current_region_ || (id == 0 && linear / 512 != last_linear_ / 512 && linear < 0x100000))
        enter_region(id, linear);
    if (is_empty(linear)) {
        finish(RehearsalEnd::EmptyMemory,
               fmt::format("execution reaches empty memory at {}",
                           now_protected ? fmt::format("{:08x}", linear)
                                         : fmt::format("{:04x}:{:04x}", cpu_.segments[CS].selector, eip)));
        return false;
    }
    last_linear_ = linear;
    if (options_.unpacked != nullptr && now_protected && linear == options_.unpacked_at) {
        unpacked_entered();
        return false;
    }
    if ((eip == 0 || (now_protected && linear >= 0x100000 && (linear & 0xFFFU) == 0)) && kernel_entry(linear)) {
        event(RehearsalEventKind::Transfer,
              now_protected ? "the kernel's 32-bit entry" : "the kernel's real-mode entry");
        out_.events.back().stage = Stage::Kernel;
        out_.events.back().address = linear;
        finish(RehearsalEnd::KernelEntered, "control passes to a Linux kernel");
        return false;
    }
    return !finished_;
}

void Pc::unpacked_entered() {
    const auto& wanted = *options_.unpacked;
    for (std::uint32_t i = 0; i < wanted.size(); ++i)
        if (peek8(options_.unpacked_at + i) != wanted[i]) {
            finish(RehearsalEnd::Differs,
                   fmt::format("what is unpacked to {:08x} differs from what its image holds, from byte {} on",
                               options_.unpacked_at, i));
            return;
        }
    finish(
        RehearsalEnd::UntilReached,
        fmt::format("what is unpacked to {:08x} is entered, byte by byte what its image holds", options_.unpacked_at));
}

/// What a first sector's code leaves behind: its own copy at 0000:0600, SI at the entry of the partition it starts.
void Pc::leave_entry(std::uint64_t sector) {
    constexpr std::uint32_t copy = 0x600;
    const auto table = drives_[0].overlay->bytes(0, 512);
    if (!table) return;
    for (std::uint32_t i = 0; i < 512; ++i) poke8(copy + i, (*table)[i]);
    std::uint32_t entry = copy + 446;
    for (std::uint32_t slot = 0; slot < 4; ++slot)
        if (peek32(copy + 446 + slot * 16 + 8) == sector) entry = copy + 446 + slot * 16;
    if (peek32(entry + 8) != sector) {
        // A logical partition: loaders hand over an entry that counts from the disk's start.
        poke8(entry, 0x80);
        poke8(entry + 4, 0x83);
        poke32(entry + 8, static_cast<std::uint32_t>(sector));
    }
    cpu_.gpr[ESI] = entry;
    cpu_.gpr[EBP] = entry;
}

/// An optical disc as SeaBIOS starts it (src/cdrom.c, cdrom_boot): the catalogue's first entry, without emulation.
bool Pc::load_boot_image() {
    const auto& catalogue = disc_->disk->catalogue;
    if (!catalogue || catalogue->refused || catalogue->images.empty() ||
        catalogue->images.front().emulation != Emulation::None) {
        finish(RehearsalEnd::NotStarted, !catalogue || catalogue->refused
                                             ? "a BIOS does not start this disc"
                                             : "a boot image with drive emulation is not run as a disc");
        return false;
    }
    image_ = catalogue->images.front();
    const std::uint32_t blocks = (std::max<std::uint32_t>(image_.sectors, 1) + 3) / 4;
    const auto bytes = disc_->overlay->bytes(image_.offset, std::uint64_t{blocks} * 2048);
    if (!bytes) {
        finish(RehearsalEnd::NotStarted, "the boot image cannot be read: " + bytes.error().what);
        return false;
    }
    const std::uint32_t address = std::uint32_t{image_.segment} * 16;
    memory_.store(address, *bytes);
    regions_.push_back({DiskRange{disc_->disk->number, image_.offset, bytes->size()},
                        {fmt::format("d{} boot image {}", disc_->disk->number, image_.number), PlaceKind::BootImage},
                        address,
                        false});
    for (std::uint32_t block = address / 512; block < (address + bytes->size()) / 512 && block < region_of_.size();
         ++block)
        region_of_[block] = 1;
    remember(1, *bytes);
    cpu_.load_real(CS, image_.segment);
    cpu_.eip = 0;
    cpu_.gpr[EDX] = 0xE0;
    return true;
}

bool Pc::load_first_sector() {
    const std::uint64_t start = options_.start_sector * 512;
    const auto first = drives_[0].overlay->bytes(start, std::min<std::uint64_t>(512, drives_[0].overlay->size()));
    if (!first || first->size() < 512 || (*first)[510] != 0x55 || (*first)[511] != 0xAA) {
        finish(RehearsalEnd::NotStarted, !first ? "the first sector cannot be read"
                                                : "the first sector has no signature 55AA: a BIOS does not start it");
        return false;
    }
    for (std::uint32_t i = 0; i < 512; ++i) poke8(boot_address + i, (*first)[i]);
    const int number = drives_[0].disk->number;
    regions_.push_back({DiskRange{number, start, 512}, places_.at(number, start), boot_address, false});
    if (options_.start_sector != 0) leave_entry(options_.start_sector);
    region_of_[boot_address / 512] = 1;
    remember(1, *first);
    return true;
}

/// Runs on while nothing can happen that before_run() looks for, and for a while.
void Pc::run_code() {
    constexpr std::uint64_t a_while = 4096;
    // Services begin between two instructions of the stubs' segment.
    const bool in_stub = cpu_.segments[CS].selector == stub_segment;
    const std::uint64_t left = options_.most_instructions - std::min(options_.most_instructions, instructions_);
    cpu_.run_on({in_stub ? 1 : std::min(left, a_while), spent_at_once - std::min(spent_at_once, unspent_),
                 options_.unpacked_at});
    instructions_ = cpu_.executed();
    unspent_ += cpu_.take_work();
    if (instructions_ - counted_ >= spent_at_once / operations_of_instruction || unspent_ >= spent_at_once) {
        unspent_ += (instructions_ - counted_) * operations_of_instruction;
        counted_ = instructions_;
        spend(std::exchange(unspent_, 0));
    }
}

/// The CPU does not go on by itself.
void Pc::stopped() {
    const auto place = [&] {
        return protected_mode() ? fmt::format("in protected mode at {:08x}", cpu_.linear())
                                : fmt::format("at {:04x}:{:04x}", cpu_.segments[CS].selector, cpu_.eip);
    };
    if (cpu_.stopped() == CpuStop::Unsupported)
        return finish(RehearsalEnd::Limit, fmt::format("{} {}: that is not emulated", cpu_.why(), place()));
    if (cpu_.stopped() == CpuStop::Fault)
        return finish(RehearsalEnd::Fault, fmt::format("CPU {} that nobody handles, {}", cpu_.why(), place()));
    // HLT: with interrupts off nothing ever wakes it; else the timer does.
    if ((cpu_.other_flags & flag::interrupt) == 0)
        return finish(RehearsalEnd::Halted, "the CPU is halted with interrupts off");
    if (++halts_ > (hooked(0x1C) || hooked(0x08) ? most_halts * 20 : most_halts))
        return finish(RehearsalEnd::Halted, "the code only waits");
    cpu_.wake();
    pass_time(6);
    if (!protected_mode()) timer(cpu_.segments[CS].selector, cpu_.eip);
}

Rehearsal Pc::run() {
    power_on();
    if (drives_.empty() && !disc_) {
        finish(RehearsalEnd::NotStarted, "there is no such disk");
        return std::move(out_);
    }
    if (disc_ ? !load_boot_image() : !load_first_sector()) return std::move(out_);
    while (!finished_) {
        if (cpu_.stopped() != CpuStop::None) stopped();
        else if (before_run()) run_code();
    }
    out_.memory_touched = memory_.touched();
    out_.instructions = instructions_;
    out_.screen = screen();
    return std::move(out_);
}

}  // namespace herberge::rehearsal
