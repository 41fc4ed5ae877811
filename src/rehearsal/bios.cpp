// SPDX-License-Identifier: MIT
// The BIOS services that boot code asks for. Numbers and conventions: the PC BIOS interface as documented by
// Phoenix' EDD specification (INT 13h extensions), ACPI (INT 15h E820h), and the BIOS interrupt lists.
#include <fmt/format.h>
#include <algorithm>

#include "rehearsal/pc.hpp"

namespace herberge::rehearsal {

namespace {

constexpr std::uint32_t video_memory = 0xB8000;
constexpr std::uint64_t most_polls = 2400;  // about half a minute of virtual time
constexpr std::size_t most_text = 64U << 10U;
constexpr std::size_t most_regions = 60000;
constexpr std::uint64_t least_piece = 1024;  // what a written sector costs in memory

struct Key {
    std::string_view name;
    std::uint16_t code;
};
constexpr Key keys[] = {{"enter", 0x1C0D}, {"esc", 0x011B},  {"space", 0x3920}, {"tab", 0x0F09}, {"up", 0x4800},
                        {"down", 0x5000},  {"left", 0x4B00}, {"right", 0x4D00}, {"f1", 0x3B00},  {"f2", 0x3C00},
                        {"f3", 0x3D00},    {"f4", 0x3E00},   {"f8", 0x4200},    {"f10", 0x4400}, {"f12", 0x8600}};

// Answers of INT 13h in AH, as SeaBIOS gives them.
constexpr std::uint8_t wrong_parameter = 0x01, over_a_boundary = 0x09, bad_track = 0x0C;

unsigned from_bcd_free(unsigned value) { return value / 10 * 16 + value % 10; }

}  // namespace

/// What the firmware's stub for an interrupt does; flags are changed on the caller's stack so that hooks and chains
/// work.
void Pc::service(unsigned number) {
    const Registers r{cpu_};
    switch (number) {
        case 0x10: video(); break;
        case 0x11: r.ax() = peek16(0x410); break;
        case 0x12: r.ax() = peek16(0x413); break;
        case 0x13: disk_service(); break;
        case 0x15: system_service(); break;
        case 0x16: keyboard(); break;
        case 0x1A: clock(); break;
        case 0x18:
            finish(RehearsalEnd::Int18, "INT 18h: the code gives up, and the firmware goes on to its next device");
            break;
        case 0x19: finish(RehearsalEnd::Int19, "INT 19h: the firmware is asked to start over"); break;
        case 0x00:
        case 0x06:
        case 0x0C:
        case 0x0D:
            finish(RehearsalEnd::Fault, fmt::format("CPU exception {} that nobody handles, at {:04x}:{:04x}", number,
                                                    peek16(r.base(SS) + r.sp() + 2U), peek16(r.base(SS) + r.sp())));
            break;
        default: break;
    }
}

/// Delivers IRQ 0 to whoever hooked INT 08h or its follower 1Ch, once for a tick that has passed. Where it returns to
/// is the caller's choice, so the frame is built by hand.
void Pc::timer(std::uint32_t back_segment, std::uint32_t back_offset) {
    const Registers r{cpu_};
    if (timer_ticks_ >= quarter_ticks_ / 4) return;
    const unsigned vector = hooked(0x08) ? 0x08 : 0x1C;
    if (!hooked(vector)) {
        timer_ticks_ = quarter_ticks_ / 4;
        return;
    }
    // One for each tick, but no backlog after a long wait.
    timer_ticks_ = std::max(timer_ticks_ + 1, quarter_ticks_ / 4 - std::min<std::uint64_t>(quarter_ticks_ / 4, 4));
    const auto push = [&](std::uint32_t value) {
        r.sp() = static_cast<std::uint16_t>(r.sp() - 2);
        poke16(r.base(SS) + r.sp(), value);
    };
    push(cpu_.eflags() & 0xFFFFU);
    push(back_segment);
    push(back_offset);
    cpu_.other_flags &= ~(flag::interrupt | flag::trap);
    cpu_.load_real(CS, peek16(vector * 4 + 2));
    cpu_.eip = peek16(vector * 4);
}

void Pc::set_flag(std::uint32_t which, bool on) {
    const std::uint32_t at = cpu_.segments[SS].base + ((cpu_.word(ESP) + 4U) & 0xFFFFU);
    const std::uint16_t flags = peek16(at);
    poke16(at, on ? flags | which : flags & ~which);
}

// --- INT 10h ------------------------------------------------------------------------------------------------------

void Pc::put_cell(unsigned row, unsigned column, std::uint8_t c, std::uint8_t attribute) {
    const std::uint32_t at = video_memory + (row * 80 + column) * 2;
    poke8(at, c);
    poke8(at + 1, attribute);
}

void Pc::scroll(unsigned top, unsigned left, unsigned bottom, unsigned right, unsigned lines, std::uint8_t attribute) {
    bottom = std::min(bottom, 24U);
    right = std::min(right, 79U);
    if (top > bottom || left > right || !spend((bottom - top + 1) * (right - left + 1))) return;
    if (lines == 0 || lines > bottom - top + 1) lines = bottom - top + 1;
    for (unsigned row = top; row <= bottom; ++row)
        for (unsigned column = left; column <= right; ++column) {
            if (row + lines <= bottom) {
                const std::uint16_t cell = peek16(video_memory + ((row + lines) * 80 + column) * 2);
                poke16(video_memory + (row * 80 + column) * 2, cell);
            } else {
                put_cell(row, column, ' ', attribute);
            }
        }
}

void Pc::teletype(std::uint8_t c, std::uint8_t attribute, bool with_attribute) {
    if (out_.text.size() > most_text) {
        finish(RehearsalEnd::Limit, "the code prints without end");
        return;
    }
    unsigned column = peek8(0x450);
    unsigned row = peek8(0x451);
    if (c == '\r') {
        column = 0;
    } else if (c == '\n') {
        ++row;
    } else if (c == 8) {
        if (column > 0) --column;
    } else if (c != 7) {
        const std::uint32_t at = video_memory + (std::min(row, 24U) * 80 + std::min(column, 79U)) * 2;
        put_cell(std::min(row, 24U), std::min(column, 79U), c, with_attribute ? attribute : peek8(at + 1));
        if (++column >= 80) {
            column = 0;
            ++row;
        }
    }
    if (row >= 25) {
        scroll(0, 0, 24, 79, 1, 7);
        row = 24;
    }
    poke8(0x450, column);
    poke8(0x451, row);
    record_text(static_cast<char>(c));
}

void Pc::video() {
    const Registers r{cpu_};
    switch (r.ah()) {
        case 0x00:
            video_mode_ = r.al() & 0x7FU;
            poke8(0x449, video_mode_);
            poke16(0x450, 0);
            if ((r.al() & 0x80U) == 0) scroll(0, 0, 24, 79, 0, 7);
            break;
        case 0x02:
            // Text that goes on in another row is another line.
            if (r.dh() != peek8(0x451) && !out_.text.empty() && out_.text.back() != '\n' &&
                out_.text.size() < most_text)
                record_text('\n');
            poke8(0x450, r.dl());
            poke8(0x451, r.dh());
            break;
        case 0x03:
            r.dl() = peek8(0x450);
            r.dh() = peek8(0x451);
            r.cx() = 0x0607;
            break;
        case 0x06: scroll(r.ch(), r.cl(), r.dh(), r.dl(), r.al(), r.bh()); break;
        case 0x08: {
            const std::uint16_t cell = peek16(
                video_memory + (std::min<unsigned>(peek8(0x451), 24) * 80 + std::min<unsigned>(peek8(0x450), 79)) * 2);
            r.ax() = cell;
            break;
        }
        case 0x09:
        case 0x0A: {
            unsigned at = std::min<unsigned>(peek8(0x451), 24) * 80 + std::min<unsigned>(peek8(0x450), 79);
            if (!spend(std::min<unsigned>(r.cx(), 80 * 25))) break;
            for (unsigned i = 0; i < r.cx() && at < 80 * 25; ++i, ++at) {
                poke8(video_memory + at * 2, r.al());
                if (r.ah() == 9) poke8(video_memory + at * 2 + 1, r.bl());
            }
            if (r.cx() == 1 && r.al() >= 0x20 && out_.text.size() < most_text) record_text(static_cast<char>(r.al()));
            break;
        }
        case 0x0E: teletype(r.al(), 7, false); break;
        case 0x0F:
            r.al() = video_mode_;
            r.ah() = 80;
            r.bh() = 0;
            break;
        case 0x12:
            if (r.bl() == 0x10) {
                r.bx() = 0x0003;
                r.cx() = 0;
            }
            break;
        case 0x13: {
            const std::uint32_t from = r.base(ES) + r.bp();
            poke8(0x450, r.dl());
            poke8(0x451, r.dh());
            const bool attributes = (r.al() & 2U) != 0;
            for (unsigned i = 0; i < r.cx() && i < 4000; ++i) {
                const std::uint32_t at = from + (attributes ? i * 2 : i);
                teletype(peek8(at), attributes ? peek8(at + 1) : r.bl(), true);
            }
            break;
        }
        case 0x1A:
            if (r.al() == 0) {
                r.al() = 0x1A;
                r.bx() = 0x0008;
            }
            break;
        case 0x4F: r.ax() = 0x0100; break;  // no VBE: text stays text
        default: break;
    }
}

std::vector<std::string> Pc::screen() {
    std::vector<std::string> out;
    for (unsigned row = 0; row < 25; ++row) {
        std::string line;
        for (unsigned column = 0; column < 80; ++column) {
            const std::uint8_t c = peek8(video_memory + (row * 80 + column) * 2);
            // Frames of code page 437 become plain ASCII.
            line += c >= 0x20 && c < 0x7F    ? static_cast<char>(c)
                    : c == 0xB3 || c == 0xBA ? '|'
                    : c == 0xC4 || c == 0xCD ? '-'
                    : c >= 0xB4 && c <= 0xDA ? '+'
                                             : ' ';
        }
        line.erase(line.find_last_not_of(' ') + 1);
        out.push_back(std::move(line));
    }
    while (!out.empty() && out.back().empty()) out.pop_back();
    return out;
}

// --- INT 13h ------------------------------------------------------------------------------------------------------

Pc::Drive* Pc::drive(std::uint8_t number) {
    if (number == 0xE0 && disc_) return &*disc_;
    if (number < 0x80 || number - 0x80U >= drives_.size()) return nullptr;
    return &drives_[number - 0x80U];
}

void Pc::disk_result(std::uint8_t status) {
    last_status_ = status;
    Registers{cpu_}.ah() = status;
    set_carry(status != 0);
}

bool Pc::transfer(Drive& drive, std::uint64_t lba, std::uint32_t count, std::uint32_t address, bool write) {
    const int number = drive.disk->number;
    const DiskRange range{number, lba * drive.sector, std::uint64_t{count} * drive.sector};
    polls_ = 0;
    halts_ = 0;
    const bool inside = lba < (std::uint64_t{1} << 50U) && range.offset + range.length <= drive.overlay->size();
    if (!spend(range.length / 4)) return false;
    if (write) {
        // What is written is kept in memory.
        if (inside) written_ += std::max<std::uint64_t>(range.length, least_piece);
        if (written_ > options_.touched_memory) {
            finish(RehearsalEnd::Limit, "the code writes more to its disks than a rehearsal affords");
            return false;
        }
        std::vector<std::uint8_t> bytes(static_cast<std::size_t>(range.length));
        for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = peek8(address + static_cast<std::uint32_t>(i));
        if (!inside || !drive.overlay->write(range.offset, bytes)) return false;
        ++out_.writes;
        last_progress_ = instructions_;
        event(RehearsalEventKind::Write, fmt::format("writes {} sector{}", count, count == 1 ? "" : "s"));
        if (auto& e = out_.events.back(); e.kind == RehearsalEventKind::Write && !e.range) {
            e.range = range;
            auto lies = places_.at(number, range.offset);
            e.lies_in = std::move(lies.text);
            e.lies_in_kind = lies.kind;
        }
        return true;
    }
    if (++out_.reads > options_.most_reads) {
        finish(RehearsalEnd::Limit, fmt::format("the code asks for more than {} reads", options_.most_reads));
        return false;
    }
    if (inside)
        for (const auto& kernel : options_.kernels)
            // Only reads that lie in the kernel as a whole: loaders fetch neighbours of small files along with them.
            if (kernel.disk == number && range.offset >= kernel.offset &&
                range.offset + range.length <= kernel.offset + kernel.length) {
                finish(RehearsalEnd::KernelRead, "the kernel's own sectors are asked for: decoding knows them");
                return false;
            }
    last_progress_ = instructions_;
    const Lies lies = places_.at(number, range.offset);
    const auto bytes = inside ? drive.overlay->bytes(range.offset, range.length)
                              : fail(ErrorKind::OutOfRange, "a read past the end of the disk");
    // Reads that go on where the last one ended, in the same thing, are one event.
    auto* last = !out_.events.empty() && pending_text_.empty() ? &out_.events.back() : nullptr;
    if (bytes && last != nullptr && last->kind == RehearsalEventKind::Read && last->lies_in == lies.text &&
        last->range && last->range->disk == number && !last->failed &&
        (last->range->offset + last->range->length == range.offset ||
         (range.offset >= last->range->offset &&
          range.offset + range.length <= last->range->offset + last->range->length))) {
        last->range->length =
            std::max(last->range->offset + last->range->length, range.offset + range.length) - last->range->offset;
        ++last->count;
    } else {
        event(RehearsalEventKind::Read, bytes ? "reads" : "reads, and fails: " + bytes.error().what);
        if (!out_.events.empty() && out_.events.back().kind == RehearsalEventKind::Read && !out_.events.back().range) {
            out_.events.back().range = range;
            out_.events.back().lies_in = lies.text;
            out_.events.back().lies_in_kind = lies.kind;
            out_.events.back().failed = !bytes;
            out_.events.back().address = address;
        }
    }
    if (!bytes) return false;
    out_.bytes_read += range.length;
    memory_.store(address, *bytes);
    // Remember sector by sector where this memory came from. Bounce buffers are overwritten all the time.
    if (regions_.size() < most_regions) {
        regions_.push_back({range, lies, address, false});
        const auto id = static_cast<std::uint16_t>(regions_.size() - 1);
        remember(id, *bytes);
        for (std::uint32_t i = 0; i < count * (drive.sector / 512); ++i) {
            const std::uint32_t block = (address + i * 512) / 512;
            if (block < region_of_.size()) region_of_[block] = id;
        }
        // The code that is running may have replaced itself.
        current_region_ = 0xFFFF;
    }
    return true;
}

void Pc::disk_service() {
    const Registers r{cpu_};
    Drive* d = drive(r.dl());
    const std::uint8_t function = r.ah();
    if (function == 0x4B) {  // which disc was started, without emulation (El Torito 1.0, INT 13h function 4B)
        if (d == nullptr && r.dl() == 0x7F) {
            disk_result(0x01);
            return;
        }
        // Where no disc was started, there is a packet all the same, of zeros (SeaBIOS, as started).
        const std::uint32_t packet = r.base(DS) + r.si();
        for (std::uint32_t i = 1; i < 0x13; ++i) poke8(packet + i, 0);
        poke8(packet, 0x13);
        if (disc_) {
            poke8(packet + 2, 0xE0);
            poke32(packet + 4, static_cast<std::uint32_t>(image_.offset / 2048));
            poke16(packet + 12, image_.segment);
            poke16(packet + 14, image_.sectors);
        }
        disk_result(0);
        return;
    }
    if (d == nullptr) {
        disk_result(0x01);
        return;
    }
    auto extended = [&](bool write) {
        const std::uint32_t packet = r.base(DS) + r.si();
        const std::uint32_t count = peek16(packet + 2);
        const std::uint64_t lba = peek32(packet + 8) | static_cast<std::uint64_t>(peek32(packet + 12)) << 32U;
        const std::uint32_t address = static_cast<std::uint32_t>(peek16(packet + 6)) * 16 + peek16(packet + 4);
        const bool beyond = lba >= d->overlay->size() / d->sector;
        if (count == 0 && !beyond) {
            disk_result(0);
            return;
        }
        const std::uint8_t status = count > 0x80                               ? over_a_boundary
                                    : transfer(*d, lba, count, address, write) ? std::uint8_t{0}
                                    : beyond                                   ? wrong_parameter
                                                                               : bad_track;
        if (status != 0 && status != wrong_parameter) poke16(packet + 2, 0);
        disk_result(status);
    };
    switch (function) {
        case 0x00:
        case 0x05:  // a track is not formatted, and nothing says so
        case 0x0C:
        case 0x0D:
        case 0x10:
        case 0x11:
        case 0x14: disk_result(0); break;
        case 0x01: disk_result(last_status_); break;
        case 0x02:
        case 0x03:
        case 0x04: {
            if (d->sector != 512) {  // discs are read through the extensions only
                disk_result(0x01);
                break;
            }
            const std::uint32_t cylinder = r.ch() | (static_cast<std::uint32_t>(r.cl()) & 0xC0U) << 2U;
            const std::uint32_t sector = r.cl() & 0x3FU;
            const std::uint64_t lba = (std::uint64_t{cylinder} * d->heads + r.dh()) * d->sectors + sector - 1;
            if (sector == 0 || sector > d->sectors || r.dh() >= d->heads || r.al() == 0) {
                disk_result(wrong_parameter);  // and AL stays, as it does beyond the end
                break;
            }
            const bool beyond = lba >= d->overlay->size() / d->sector;
            const bool good =
                function == 0x04 ? !beyond : transfer(*d, lba, r.al(), r.base(ES) + r.bx(), function == 0x03);
            if (!good && !beyond) r.al() = 0;
            disk_result(good ? std::uint8_t{0} : beyond ? wrong_parameter : bad_track);
            break;
        }
        case 0x08: {
            const std::uint32_t last = d->cylinders - 1;
            r.ch() = static_cast<std::uint8_t>(last & 0xFFU);
            r.cl() = static_cast<std::uint8_t>(d->sectors | ((last >> 2U) & 0xC0U));
            r.dh() = static_cast<std::uint8_t>(d->heads - 1);
            r.dl() = static_cast<std::uint8_t>(drives_.size());
            r.al() = 0;
            disk_result(0);
            break;
        }
        case 0x15: {
            const std::uint64_t sectors = d->overlay->size() / 512;
            disk_result(0);
            r.ah() = 3;
            r.cx() = static_cast<std::uint16_t>(sectors >> 16U);
            r.dx() = static_cast<std::uint16_t>(sectors);
            break;
        }
        case 0x41:
            if (!options_.extensions) {  // the caller's word is not looked at
                disk_result(0x01);
                break;
            }
            r.bx() = 0xAA55;
            r.cx() = 0x0007;
            disk_result(0);
            r.ah() = 0x30;
            break;
        case 0x42:
        case 0x43:
            if (options_.extensions) extended(function == 0x43);
            else disk_result(0x01);
            break;
        case 0x44:
        case 0x47: disk_result(options_.extensions ? 0 : 0x01); break;
        case 0x48: {
            const std::uint32_t buffer = r.base(DS) + r.si();
            if (!options_.extensions || peek16(buffer) < 26) {
                disk_result(0x01);
                break;
            }
            const std::uint64_t sectors = d->overlay->size() / d->sector;
            poke16(buffer, 26);
            poke16(buffer + 2, 0);
            poke32(buffer + 4, d->cylinders);
            poke32(buffer + 8, d->heads);
            poke32(buffer + 12, d->sectors);
            poke32(buffer + 16, static_cast<std::uint32_t>(sectors));
            poke32(buffer + 20, static_cast<std::uint32_t>(sectors >> 32U));
            poke16(buffer + 24, d->sector);
            disk_result(0);
            break;
        }
        default: disk_result(0x01); break;
    }
}

// --- INT 15h ------------------------------------------------------------------------------------------------------

void Pc::memory_map() {
    const Registers r{cpu_};
    const std::uint32_t buffer = r.base(ES) + r.di();
    struct Piece {
        std::uint64_t base, length;
        std::uint32_t type;
    };
    const Piece pieces[] = {
        {0, 0x9FC00, 1}, {0x9FC00, 0x400, 2}, {0xF0000, 0x10000, 2}, {0x100000, options_.memory - 0x100000, 1}};
    const std::uint32_t index = r.ebx();
    if (r.edx() != 0x534D4150 || index >= std::size(pieces) || r.ecx() < 20) {
        r.ah() = 0x86;
        set_carry(true);
        return;
    }
    const auto& piece = pieces[index];
    poke32(buffer, static_cast<std::uint32_t>(piece.base));
    poke32(buffer + 4, static_cast<std::uint32_t>(piece.base >> 32U));
    poke32(buffer + 8, static_cast<std::uint32_t>(piece.length));
    poke32(buffer + 12, static_cast<std::uint32_t>(piece.length >> 32U));
    poke32(buffer + 16, piece.type);
    r.eax() = 0x534D4150;
    r.ecx() = 20;
    r.ebx() = index + 1 < std::size(pieces) ? index + 1 : 0;
    set_carry(false);
}

void Pc::system_service() {
    const Registers r{cpu_};
    const std::uint32_t kilobytes = static_cast<std::uint32_t>(options_.memory / 1024) - 1024;
    auto refuse = [&] {
        r.ah() = 0x86;
        set_carry(true);
    };
    switch (r.ah()) {
        case 0x24:
            if (r.al() <= 1) set_a20(r.al() == 1);
            if (r.al() == 2) r.al() = memory_.a20() ? 1 : 0;
            if (r.al() == 3) r.bx() = 3;
            r.ah() = 0;
            set_carry(false);
            break;
        case 0x4F: set_carry(true); break;  // whoever hooks it may change the key in AL
        case 0x86:
            pass_time((static_cast<std::uint64_t>(r.cx()) << 16U | r.dx()) / 13732 + 1);
            set_carry(false);
            break;
        case 0x87: {  // move a block by descriptors
            const std::uint32_t table = r.base(ES) + r.si();
            auto base = [&](std::uint32_t at) {
                return peek16(at + 2) | static_cast<std::uint32_t>(peek8(at + 4)) << 16U |
                       static_cast<std::uint32_t>(peek8(at + 7)) << 24U;
            };
            const std::uint32_t from = base(table + 0x10);
            const std::uint32_t to = base(table + 0x18);
            if (!spend(r.cx() * 4U)) break;
            for (std::uint32_t i = 0; i < r.cx() * 2U; ++i) poke8(to + i, peek8(from + i));
            r.ah() = 0;
            set_carry(false);
            break;
        }
        case 0x88:
            r.ax() = static_cast<std::uint16_t>(std::min(kilobytes, 0xFC00U));
            set_carry(false);
            break;
        case 0xE8:
            if (r.al() == 0x20) {
                memory_map();
            } else if (r.al() == 0x01) {
                r.ax() = r.cx() = static_cast<std::uint16_t>(std::min(kilobytes, 0x3C00U));
                r.bx() = r.dx() = static_cast<std::uint16_t>(kilobytes > 0x3C00 ? (kilobytes - 0x3C00) / 64 : 0);
                set_carry(false);
            } else {
                refuse();
            }
            break;
        default: refuse(); break;
    }
}

// --- INT 16h and 1Ah ------------------------------------------------------------------------------------------------

bool Pc::key_ready() { return next_key_ < options_.keys.size() && options_.keys[next_key_].seconds <= seconds(); }

void Pc::keyboard() {
    const Registers r{cpu_};
    const unsigned function = r.ah() & 0x0FU;
    if (function == 0) {
        // Waiting passes the time until the next scripted key.
        if (!key_ready() && next_key_ < options_.keys.size())
            pass_time(static_cast<std::uint64_t>((options_.keys[next_key_].seconds - seconds()) * 18.2065 * 4) + 4);
        if (!key_ready()) {
            finish(RehearsalEnd::WaitsForKey, "a key is waited for");
            return;
        }
        r.ax() = options_.keys[next_key_++].code;
        last_progress_ = instructions_;
        event(RehearsalEventKind::Key, fmt::format("key {:04x} is read", r.ax().value()));
        return;
    }
    if (function == 1) {
        pass_time(1);
        const bool ready = key_ready();
        if (ready) r.ax() = options_.keys[next_key_].code;
        set_flag(flag::zero, !ready);
        last_progress_ = instructions_;
        if (!ready && ++polls_ > most_polls)
            finish(RehearsalEnd::WaitsForKey, "a key is waited for, by asking again and again");
        return;
    }
    if (function == 2) r.al() = 0;
}

void Pc::clock() {
    const Registers r{cpu_};
    pass_time(1);
    last_progress_ = instructions_;
    const std::uint64_t total = 9 * 3600 + static_cast<std::uint64_t>(seconds());  // nine in the morning
    switch (r.ah()) {
        case 0x00: {
            const std::uint32_t ticks = peek32(0x46C);
            r.cx() = static_cast<std::uint16_t>(ticks >> 16U);
            r.dx() = static_cast<std::uint16_t>(ticks);
            r.al() = 0;
            break;
        }
        case 0x02:
            r.ch() = static_cast<std::uint8_t>(from_bcd_free(static_cast<unsigned>(total / 3600 % 24)));
            r.cl() = static_cast<std::uint8_t>(from_bcd_free(static_cast<unsigned>(total / 60 % 60)));
            r.dh() = static_cast<std::uint8_t>(from_bcd_free(static_cast<unsigned>(total % 60)));
            r.dl() = 0;
            set_carry(false);
            // A clock that only shows seconds is asked often: let time pass as such loops expect.
            pass_time(3);
            break;
        case 0x04:
            r.cx() = 0x2026;
            r.dx() = 0x0101;
            set_carry(false);
            break;
        default: set_carry(true); break;
    }
}

}  // namespace herberge::rehearsal

namespace herberge {

std::optional<std::uint16_t> key_code(std::string_view name) {
    for (const auto& key : rehearsal::keys)
        if (key.name == name) return key.code;
    if (name.size() == 1 && name[0] >= 0x20 && name[0] < 0x7F)
        return static_cast<std::uint16_t>(0x0100U | static_cast<unsigned char>(name[0]));
    return std::nullopt;
}

}  // namespace herberge
