// SPDX-License-Identifier: MIT
// Media below the files: sectors of cards and disks, raw flash, UBI (cmd/mmc.c, cmd/read.c, cmd/sf.c, cmd/nand.c,
// cmd/mtd.c, cmd/ubi.c, cmd/ubifs.c, cmd/jffs2.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/flash.hpp>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr const char* no_flash =
    "the board's flash, which is not among the disks (--flash-layout says which one it is)";

bool one_of(std::string_view word, std::initializer_list<std::string_view> words) {
    return std::ranges::find(words, word) != words.end();
}

/// A part of NAND flash as a program sees it that passes over bad blocks.
Source without_bad_blocks(const Disk& disk, std::uint64_t from, std::uint64_t to) {
    std::vector<Source> parts;
    while (from < to) {
        const std::uint64_t block_end = (from / disk.erase_block + 1) * disk.erase_block;
        const std::uint64_t end = std::min(to, block_end);
        if (std::ranges::find(disk.bad_blocks, block_end - disk.erase_block) == disk.bad_blocks.end())
            parts.push_back(slice(disk.source, from, end - from, disk.source->place()));
        from = end;
    }
    return concatenate(std::move(parts), 0, disk.source->place());
}

}  // namespace

int Console::read_raw(const Source& medium, std::uint64_t from, std::uint64_t length, std::uint64_t address) {
    const std::string place = fmt::format("{}@{}", medium->place(), from);
    if (length == 0) return 0;
    if (from > medium->size() || length > medium->size() - from) {
        missing(address,
                make_finding(
                    Code::UbootFileMissing,
                    fmt::format("what is to be read at {} lies behind the end of {}", place, medium->place()),
                    {here(place), evidence_place(medium->place(), size_text(from + length), size_text(medium->size()))},
                    "0 blocks read: ERROR"));
        return 1;
    }
    Loaded held;
    held.address = address;
    held.size = length;
    held.file.written = held.file.place = place;
    held.file.line = line_;
    held.file.size = length;
    held.file.bytes = held.bytes = slice(medium, from, length, place);
    put(std::move(held));
    return 0;
}

const Partition* Console::partition_of(const Disk& disk, const std::string& word) {
    const auto mark = word.find_first_of(":#");
    if (mark == std::string::npos) return nullptr;
    const auto wanted = word.substr(mark + 1);
    const auto found = std::ranges::find_if(disk.table.partitions, [&](const Partition& p) {
        return word[mark] == '#' ? p.name == wanted : number_of(wanted) == static_cast<std::uint64_t>(p.number);
    });
    return found != disk.table.partitions.end() ? &*found : nullptr;
}

/// read <interface> <dev[:part | #name]> <address> <block> <count>
int Console::do_read(const Words& words) {
    if (words.size() < 6) return 1;
    const auto address = number_of(words[3]);
    const auto block = number_of(words[4]);
    const auto count = number_of(words[5]);
    const Disk* disk = device(words[1], words[2]);
    if (!address || !block || !count) return 1;
    if (disk == nullptr) {
        say(fmt::format("** Bad device specification {} {} **", words[1], words[2]));
        return 1;
    }
    std::uint64_t first = 0;
    const auto mark = words[2].find_first_of(":#");
    if (mark != std::string::npos) {
        const auto wanted = words[2].substr(mark + 1);
        const Partition* found = partition_of(*disk, words[2]);
        // 0 is the whole device.
        if (found == nullptr && number_of(wanted) != std::uint64_t{0}) {
            say(fmt::format("** Invalid partition {} **", wanted));
            return 1;
        }
        if (found != nullptr) first = found->first_lba;
    }
    const std::uint64_t sector = disk->table.sector_size;
    constexpr std::uint64_t most = std::uint64_t{1} << 48U;
    if (*block > most || *count > most) return 1;
    return read_raw(disk->source, (first + *block) * sector, *count * sector, *address);
}

/// mmc read, usb read and their kin: address, block, count, of the device that was chosen last.
int Console::read_blocks(const Words& words) {
    if (words.size() < 5) return words.size() == 4 ? 0 : 1;  // nothing is read without a count
    const auto chosen = chosen_.find(words[0]);
    const std::string number = chosen != chosen_.end() ? chosen->second : "0";
    if (const auto mark = number.find('.'); mark != std::string::npos) {
        const auto address = number_of(words[2]);
        const auto block = number_of(words[3]);
        const auto count = number_of(words[4]);
        const auto area = number_of(number.substr(mark + 1));
        const Disk* disk = device(words[0], number.substr(0, mark));
        constexpr std::uint64_t most = std::uint64_t{1} << 48U;
        if (!address || !block || !count || *block > most || *count > most) return 1;
        if (disk != nullptr && area && *area > 0 && *area <= disk->boot_areas.size())
            return read_raw(disk->boot_areas[*area - 1], *block * 512, *count * 512, *address);
        if (address)
            forget(*address,
                   fmt::format("its commands read it from the part {} of {} {}, which is not among the disks",
                               number.substr(number.find('.') + 1), words[0], number.substr(0, number.find('.'))));
        return 0;
    }
    return do_read({"read", words[0], number, words[2], words[3], words[4]});
}

/// mmc write and its kin: nothing is written here; whether it would go in is told.
int Console::write_blocks(const Words& words) {
    if (words.size() < 5) return 1;
    const auto chosen = chosen_.find(words[0]);
    const Disk* disk = device(words[0], chosen != chosen_.end() ? chosen->second : "0");
    const auto block = number_of(words[3]), count = number_of(words[4]);
    if (disk == nullptr || !block || !count) return 1;
    const std::uint64_t all = disk->source->size() / disk->table.sector_size;
    return *block <= all && *count <= all - *block ? 0 : 1;
}

const Disk* Console::flash() const {
    const auto found = std::ranges::find_if(machine_.disks, is_divided_flash);
    return found != machine_.disks.end() ? &*found : nullptr;
}

std::optional<Console::FlashPlace> Console::flash_place(const Disk& disk, const std::string& word) const {
    const std::uint64_t all = disk.source->size();
    if (const auto number = number_of(word); number && word.find_first_of("0123456789") == 0) {
        if (*number >= all) return std::nullopt;
        return FlashPlace{*number, all - *number};
    }
    // Its own division of the flash may be another one than the kernel's.
    if (const auto own = value("mtdparts"); !own.empty())
        if (const auto parts = parse_flash_layout(own, all)) {
            const auto part = std::ranges::find(*parts, word, &FlashPart::name);
            if (part != parts->end()) return FlashPlace{part->at, part->size};
        }
    const std::uint64_t unit = disk.table.sector_size;
    const auto part = std::ranges::find(disk.table.partitions, word, &Partition::name);
    if (part != disk.table.partitions.end()) return FlashPlace{part->first_lba * unit, part->sectors * unit};
    if (const auto number = number_of(word); number && *number < all) return FlashPlace{*number, all - *number};
    return std::nullopt;
}

/// sf and nand: the same words for what is read; nand passes over bad blocks.
int Console::do_flash(const Words& words) {
    if (words.size() < 2) return 1;
    const auto what = std::string_view(words[1]).substr(0, words[1].find('.'));
    if (!one_of(what, {"probe", "read", "info", "device", "erase", "write", "update", "protect", "lock", "unlock",
                       "scrub", "bad"}))
        return 1;
    const Disk* disk = flash();
    if (disk == nullptr) {
        if (what == "read" && words.size() > 2)
            if (const auto address = number_of(words[2]))
                forget(*address, fmt::format("its commands read it from {}", no_flash));
        // Whether there is one, only the board itself knows: its commands go on as if there were.
        return 0;
    }
    if (what != "read") return 0;
    if (words.size() < 4) return 1;
    const auto address = number_of(words[2]);
    const auto place = flash_place(*disk, words[3]);
    const auto given = words.size() > 4 ? number_of(words[4]) : std::nullopt;
    if (!address || !place || (words.size() > 4 && !given)) {
        say(fmt::format("Invalid partition or offset {}", words[3]));
        return 1;
    }
    const auto length = given.value_or(place->size);
    if (words[0] == "nand" && !disk->bad_blocks.empty()) {
        const auto good = without_bad_blocks(*disk, place->at, place->at + place->size);
        return read_raw(good, 0, given ? length : good->size(), *address);
    }
    return read_raw(disk->source, place->at, length, *address);
}

/// mtd read <name> <address> [<offset> [<size>]]
int Console::do_mtd(const Words& words) {
    if (words.size() < 2) return 1;
    if (!words[1].starts_with("read")) return 0;
    if (words.size() < 4) return 1;
    const auto address = number_of(words[3]);
    if (!address) return 1;
    const Disk* disk = flash();
    if (disk == nullptr) {
        forget(*address, fmt::format("its commands read it from {}", no_flash));
        return 0;
    }
    auto place = flash_place(*disk, words[2]);
    // "nor0", "nand0", "spi-nand0": the flash as a whole.
    if (!place && words[2].find_last_of("0123456789") == words[2].size() - 1)
        place = FlashPlace{0, disk->source->size()};
    if (!place) {
        say(fmt::format("MTD device {} not found, ret -19", words[2]));
        return 1;
    }
    const auto from = words.size() > 4 ? number_of(words[4]).value_or(0) : 0;
    if (from > place->size) return 1;
    const auto length = words.size() > 5 ? number_of(words[5]).value_or(0) : place->size - from;
    return read_raw(disk->source, place->at + from, length, *address);
}

/// A volume of the part that `ubi part` attached; null: there is none of that name, or it cannot be read.
VolumeRef Console::flash_volume(const std::string& name) const {
    for (const auto& volume : machine_.layered) {
        if (volume->kind != NodeKind::FlashVolume || volume->not_assembled || volume->made_of.empty()) continue;
        if (volume->made_of.front()->partition != ubi_) continue;
        if (std::ranges::any_of(volume->names.linux_names, [&](const std::string& one) {
                return one.starts_with("ubi") && one.ends_with(":" + name);
            }))
            return volume;
    }
    return nullptr;
}

int Console::do_ubi(const Words& words) {
    if (words.size() < 2) return 1;
    const auto what = std::string_view(words[1]).substr(0, words[1].find('.'));
    const Disk* disk = flash();
    const auto blind = [&](std::size_t address_at) {
        if (words.size() > address_at)
            if (const auto address = number_of(words[address_at]))
                forget(*address, fmt::format("its commands read it from {}", no_flash));
        return 0;
    };
    if (what == "part") {
        if (words.size() < 3 || disk == nullptr) return 0;
        const auto place = flash_place(*disk, words[2]);
        ubi_ = -1;
        const std::uint64_t unit = disk->table.sector_size;
        for (const auto& part : disk->table.partitions)
            if (place && part.first_lba * unit == place->at) ubi_ = part.number;
        const bool attached = std::ranges::any_of(machine_.layered, [&](const VolumeRef& volume) {
            return volume->kind == NodeKind::FlashVolume && !volume->made_of.empty() &&
                   volume->made_of.front()->partition == ubi_;
        });
        if (attached) return 0;
        say(place ? "UBI init error 22" : fmt::format("Partition {} not found!", words[2]));
        return 1;
    }
    if (what == "read" || what == "readvol") {
        if (disk == nullptr) return blind(2);
        if (words.size() < 4) return 1;
        const auto address = number_of(words[2]);
        const auto volume = flash_volume(words[3]);
        if (!address) return 1;
        if (volume == nullptr) {
            missing(*address,
                    make_finding(Code::UbootFileMissing,
                                 fmt::format("the flash has no volume {} that U-Boot can read", printable(words[3])),
                                 {here(words[3])}, fmt::format("Volume {} not found!", words[3])));
            say(fmt::format("Volume {} not found!", words[3]));
            return 1;
        }
        const auto given = words.size() > 4 ? number_of(words[4]).value_or(0) : 0;
        const auto length = given != 0 ? std::min(given, volume->source->size()) : volume->source->size();
        set("filesize", fmt::format("{:x}", length));
        return read_raw(volume->source, 0, length, *address);
    }
    if (what == "check") return disk == nullptr ? 0 : words.size() > 2 && flash_volume(words[2]) != nullptr ? 0 : 1;
    return one_of(what, {"info", "detach", "list", "create", "write", "remove", "skipcheck"}) ? 0 : 1;
}

int Console::do_ubifs(const Words& words) {
    if (words[0] == "ubifsumount") {
        mounted_ = nullptr;
        return 0;
    }
    if (flash() == nullptr) {
        if (words[0] == "ubifsload" && words.size() > 1)
            if (const auto address = number_of(words[1]))
                forget(*address, fmt::format("its commands read it from {}", no_flash));
        return 0;
    }
    if (words[0] == "ubifsmount") {
        // "ubi0:name" or "ubi:name"
        const auto colon = words.size() > 1 ? words[1].find(':') : std::string::npos;
        mounted_ = colon != std::string::npos ? flash_volume(words[1].substr(colon + 1)) : nullptr;
        const bool there =
            mounted_ != nullptr && mounted_->as(Observer::Linux).is(Family::Ubifs) && plain_view(*mounted_) != nullptr;
        if (!there) {
            mounted_ = nullptr;
            say(fmt::format("Error reading superblock on volume '{}' errno=-19!", words.size() > 1 ? words[1] : ""));
        }
        return there ? 0 : 1;
    }
    Medium found;
    found.volume = mounted_;
    found.problem = "UBIFS not mounted, use ubifsmount to mount volume first!";
    if (words[0] == "ubifsload") return load_words(found, words, 1);
    const auto* fs = mounted_ != nullptr ? plain_view(*mounted_) : nullptr;
    return fs != nullptr && resolve(*fs, words.size() > 1 ? words[1] : "/") ? 0 : 1;
}

/// chpart and fsload: files of JFFS2 and CramFS, straight on a part of the flash.
int Console::do_flash_files(const Words& words) {
    if (words[0] == "chpart") {
        if (words.size() > 1) flash_part_ = words[1];
        return words.size() > 1 ? 0 : 1;
    }
    const Disk* disk = flash();
    Medium found;
    found.problem = "no partition of the flash is chosen";
    if (disk == nullptr) {
        if (const auto address = number_of(words.size() > 2 ? words[1] : value("loadaddr")))
            forget(*address, fmt::format("its commands read it from {}", no_flash));
        return 0;
    }
    // "nor0,2" counts from 0.
    const auto comma = flash_part_.find(',');
    const auto index = comma != std::string::npos ? number_of(flash_part_.substr(comma + 1)) : std::nullopt;
    for (const auto& part : disk->table.partitions)
        if (index ? static_cast<std::uint64_t>(part.slot) == *index : part.name == flash_part_)
            found.volume = machine_.volume(disk->number, part.number);
    Words all = {words[0], words.size() > 2 ? words[1] : value("loadaddr"),
                 words.size() > 2   ? words[2]
                 : words.size() > 1 ? words[1]
                                    : value("bootfile")};
    return load_words(found, all, 1);
}

}  // namespace herberge::loader::uboot
