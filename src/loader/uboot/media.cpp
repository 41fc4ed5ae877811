// SPDX-License-Identifier: MIT
// Devices, partitions and files as U-Boot finds them (disk/part.c, disk/part_efi.c, disk/part_dos.c, fs/fs.c).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/flash.hpp>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr std::string_view system_partition = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";

/// fs/fat/fat.c, read_bootsectandvi: 55AA at the end, and the text of the kind.
bool fat_marks(const ByteSource& volume) {
    const auto sector = volume.bytes(0, 512);
    if (!sector || (*sector)[510] != 0x55 || (*sector)[511] != 0xAA) return false;
    const std::string_view text(reinterpret_cast<const char*>(sector->data()), sector->size());
    return text.substr(0x36, 3) == "FAT" || text.substr(0x52, 5) == "FAT32";
}

/// "fatload" and its kin take volumes of their own kind alone; the others any.
bool takes(std::string_view command, const Volume& volume) {
    const auto& info = volume.as(Observer::Loader);
    if (command.starts_with("fat")) return info.is(Family::Fat);
    return !command.starts_with("ext") || info.is(Family::Ext);
}

std::string absolute(const std::string& path) { return path.starts_with('/') ? path : "/" + path; }

}  // namespace

const FileSystem* files_of(const Volume& volume) {
    const auto& info = volume.as(Observer::Loader);
    if (info.is(Family::Fat) && !fat_marks(*volume.source)) return nullptr;
    if (!info.is(Family::Fat) && !info.is(Family::Ext) && !info.is(Family::Btrfs) && !info.is(Family::Squashfs) &&
        !info.is(Family::Exfat))
        return nullptr;
    return plain_view(volume);
}

const Disk* Console::device(std::string_view interface, std::string_view number) const {
    // What is no number is the first one.
    auto wanted = std::optional(leading_number(number.substr(0, number.find_first_of(":#."))));
    if (interface != board_.medium || number == "-") return nullptr;
    // Raw flash is no device with sectors.
    for (const auto& disk : machine_.disks)
        if (!is_divided_flash(disk) && (*wanted)-- == 0) return &disk;
    return nullptr;
}

std::vector<int> bootable(const Disk& disk) {
    constexpr std::uint64_t legacy_bootable = 4;
    std::vector<int> out;
    for (const auto& p : disk.table.partitions) {
        const bool marked = disk.table.kind == TableKind::Gpt
                                ? (p.attributes & legacy_bootable) != 0 || p.type_guid == system_partition
                                : p.active && !p.extended();
        if (marked) out.push_back(p.number);
    }
    return out;
}

Console::Medium Console::medium(std::string_view interface, std::string_view text) const {
    Medium out;
    out.disk = device(interface, text);
    if (out.disk == nullptr) {
        out.problem = fmt::format("** Bad device specification {} {} **", interface, text);
        return out;
    }
    const auto& table = out.disk->table;
    if (text.find('#') != std::string_view::npos) {
        if (const auto* named = partition_of(*out.disk, std::string(text)))
            out.volume = machine_.volume(out.disk->number, named->number);
        out.problem = fmt::format("** Bad device specification {} {} **", interface, text);
        return out;
    }
    const auto colon = text.find(':');
    const auto asked = colon == std::string_view::npos ? std::string_view{} : text.substr(colon + 1);
    if (table.kind == TableKind::None) {
        // A file system without a table: as partition 0, or where none is named.
        if (asked.empty() || asked == "0" || asked == "auto") out.volume = machine_.volume(out.disk->number, 0);
        out.problem = fmt::format("** No partition table - {} {} **", interface, text.substr(0, colon));
        return out;
    }
    std::uint64_t number = 1;
    if (asked.empty() || asked == "auto") {
        if (const auto marked = bootable(*out.disk); !marked.empty())
            number = static_cast<std::uint64_t>(marked.front());
    } else {
        const auto given = number_of(asked);
        if (!given) {
            out.problem = fmt::format("** Bad partition specification {} {} **", interface, text);
            return out;
        }
        number = *given;
    }
    if (number <= 1000) out.volume = machine_.volume(out.disk->number, static_cast<int>(number));
    if (out.volume == nullptr) out.problem = fmt::format("** Invalid partition {} **", number);
    return out;
}

bool Console::exists(const Words& words, std::size_t from) {
    const auto found = medium(words[from], words[from + 1]);
    if (found.volume == nullptr) return false;
    const FileSystem* fs = files_of(*found.volume);
    const std::string path = absolute(words[from + 2]);
    const bool there = fs != nullptr && resolve(*fs, path).has_value();
    constexpr std::size_t most = 64;
    if (looked_at_.size() < most)
        looked_at_.push_back(evidence_place(fmt::format("{}:{}", found.volume->place, path), {},
                                            there ? std::string("there") : std::string("absent")));
    return there;
}

bool Console::load(const VolumeRef& volume, const std::string& path, std::uint64_t address, std::uint64_t most,
                   std::uint64_t from) {
    const std::string full = absolute(path);
    FileReference file = refer(*volume, path, full, line_);
    const Disk* medium = machine_.disk(volume->disk);
    const bool flash_files = volume->kind == NodeKind::FlashVolume || (medium != nullptr && is_divided_flash(*medium));
    if (!flash_files && files_of(*volume) == nullptr) file.miss(Lack::Absent, "no file system that U-Boot reads");
    auto bytes = file.found() ? open_file(file) : nullptr;
    // FAT gives nothing from behind the end (fs/fat/fat.c), and says so without an error.
    if (bytes != nullptr && from > file.size && volume->as(Observer::Loader).is(Family::Fat)) from = file.size;
    if (bytes == nullptr || from > file.size) {
        auto evidence = std::vector<Evidence>{here(path)};
        if (!file.near_misses.empty())
            evidence.front().found += fmt::format("; there is {}", fmt::join(file.near_misses, ", "));
        const std::string reason =
            fmt::format("{} is not there: {}", file.place, file.error.value_or("it is shorter than where to begin"));
        missing(address, make_finding(file.unreadable() ? Code::ConfigurationUnreadable : Code::UbootFileMissing,
                                      reason, std::move(evidence),
                                      fmt::format("** File not found {} **\nFailed to load '{}'", full, path)));
        say(fmt::format("Failed to load '{}'", path));
        return false;
    }
    Loaded held;
    held.address = address;
    held.size = file.size - from;
    if (most != 0) held.size = std::min(held.size, most);
    if (from != 0 || held.size != file.size) {
        file.part = {from, held.size};
        bytes = slice(bytes, from, held.size, bytes->place());
    }
    held.file = std::move(file);
    held.bytes = std::move(bytes);
    set("filesize", fmt::format("{:x}", held.size));
    set("fileaddr", fmt::format("{:x}", address));
    put(std::move(held));
    return true;
}

int Console::do_load(const Words& words) {
    // load <interface> <dev[:part]> <addr> <filename> [bytes [pos]]
    if (words.size() < 3) return 1;
    if (words[1] == "ubi") {
        Medium found;
        found.volume = mounted_;
        found.problem = "UBIFS not mounted, use ubifsmount to mount volume first!";
        return load_words(found, words, 3);
    }
    auto found = medium(words[1], words[2]);
    if (found.volume != nullptr && !takes(words[0], *found.volume)) {
        found.problem = "** Unrecognized filesystem type **";
        found.volume = nullptr;
    }
    return load_words(found, words, 3);
}

int Console::load_words(const Medium& found, const Words& words, std::size_t from) {
    const std::string path = words.size() > from + 1 ? words[from + 1] : value("bootfile");
    const auto address = number_of(words.size() > from ? words[from] : value("loadaddr"));
    if (path.empty() || !address) return 1;
    if (found.volume == nullptr) {
        say(found.problem);
        missing(*address,
                make_finding(Code::UbootFileMissing, fmt::format("{} cannot be loaded: {}", path, found.problem),
                             {here(path)}, fmt::format("{}\nFailed to load '{}'", found.problem, path)));
        return 1;
    }
    const auto most = words.size() > from + 2 ? number_of(words[from + 2]).value_or(0) : 0;
    const auto begin = words.size() > from + 3 ? number_of(words[from + 3]).value_or(0) : 0;
    return load(found.volume, path, *address, most, begin) ? 0 : 1;
}

int Console::do_list(const Words& words) {
    // ls and size: whether the file is there.
    if (words.size() < 3) return 1;
    const auto found = medium(words[1], words[2]);
    const FileSystem* fs =
        found.volume != nullptr && takes(words[0], *found.volume) ? files_of(*found.volume) : nullptr;
    if (fs == nullptr) return 1;
    const auto file = resolve(*fs, words.size() > 3 ? absolute(words[3]) : "/");
    if (!file) return 1;
    if (words[0].ends_with("size")) set("filesize", fmt::format("{:x}", file->file.size));
    return 0;
}

int Console::do_part(const Words& words) {
    if (words.size() == 2 && words[1] == "types") return 0;
    if (words.size() < 4) return 1;
    const auto& what = words[1];
    if (what == "list") {
        bool marked_only = false;
        std::string into;
        for (std::size_t i = 4; i < words.size(); ++i) {
            if (words[i] == "-bootable") marked_only = true;
            else if (words[i].starts_with('-')) return 1;
            else into = words[i];
        }
        if (marked_only && into.empty()) return 1;
        const Disk* disk = device(words[2], words[3]);
        if (disk == nullptr) return 1;
        std::vector<std::string> numbers;
        for (const auto& p : disk->table.partitions) {
            const auto marked = marked_only ? bootable(*disk) : std::vector<int>{};
            if (!marked_only || std::ranges::find(marked, p.number) != marked.end())
                numbers.push_back(fmt::format("{:x}", p.number));
        }
        if (!into.empty()) set(into, fmt::format("{}", fmt::join(numbers, " ")));
        return 0;
    }
    const auto found = medium(words[2], words[3]);
    if (found.disk == nullptr) return 1;
    if (what == "uuid") {
        if (found.volume == nullptr) return 1;
        if (words.size() > 4) set(words[4], found.volume->partuuid);
        return 0;
    }
    if (words.size() < 5) return 1;
    const auto wanted = std::ranges::find_if(found.disk->table.partitions, [&](const Partition& p) {
        return p.name == words[4] || number_of(words[4]) == static_cast<std::uint64_t>(p.number);
    });
    if (wanted == found.disk->table.partitions.end()) return 1;
    std::string told;
    if (what == "start") told = fmt::format("{:x}", wanted->first_lba);
    else if (what == "size") told = fmt::format("{:x}", wanted->sectors);
    else if (what == "number") told = fmt::format("0x{:x}", wanted->number);
    else return 1;
    if (words.size() > 5) set(words[5], told);
    return 0;
}

int Console::do_fstype(const Words& words) {
    if (words.size() < 3) return 1;
    const auto found = medium(words[1], words[2]);
    if (found.volume == nullptr) {
        say(found.problem);
        return 1;
    }
    if (files_of(*found.volume) == nullptr) return 1;
    const auto& info = found.volume->as(Observer::Loader);
    if (words.size() > 3) set(words[3], info.is(Family::Fat) ? "fat" : info.is(Family::Ext) ? "ext4" : info.name());
    return 0;
}

}  // namespace herberge::loader::uboot
