// SPDX-License-Identifier: MIT
// Windows on BIOS machines: the volume boot code that asks for a file by name, the boot manager with its store, and the
// older NTLDR with its text file.
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include <herberge/pe.hpp>

#include "artifact/hive_whole.hpp"
#include "bytes/lost.hpp"
#include "loader/family.hpp"
#include "loader/text.hpp"
#include "loader/windows/store.hpp"

namespace herberge::loader::windows {

namespace {

constexpr std::uint64_t sector_size = 512;
constexpr std::uint32_t attribute_compressed = 0x800;
constexpr std::string_view restart = "Press Ctrl+Alt+Del to restart";

bool contains(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    return std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end(),
                       [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }) != bytes.end();
}

bool has_parameter_block(std::span<const std::uint8_t> sector) {
    return contains(sector.subspan(3, 8), "NTFS") || sector[21] >= 0xF0;
}

bool asks_for(std::span<const std::uint8_t> sector, std::string_view name) {
    if (sector.size() < 512 || sector[510] != 0x55 || sector[511] != 0xAA || (sector[0] != 0xEB && sector[0] != 0xE9))
        return false;
    return has_parameter_block(sector) && contains(sector.subspan(0x54), name);
}

std::string read_failed() { return fmt::format("A disk read error occurred\n{}", restart); }

/// What both generations share: the volume is readable, the file is in its root, whole and not compressed.
std::optional<FileReference> find_file(const BootPlace& place, std::string_view name, std::string_view shown,
                                       LoaderRun& out) {
    const Volume& volume = *place.volume;
    out.route.push_back(fmt::format("{}: Windows boot code, which asks for {}", place.text(), shown));
    out.first_sector_text = fmt::format("Windows boot code, which looks for {} in the root of {}", shown, volume.place);
    if (volume.files(Observer::WindowsLoader) == nullptr) {
        const auto problem = volume.problem(Observer::WindowsLoader);
        stop(out, problem && problem->unreadable() ? Code::WindowsLoaderUnreadable : Code::BootSectorGeometry,
             fmt::format("the boot sector of {} does not lead to the volume's files: {}", volume.place,
                         problem.value_or(Error{}).text()),
             {place.evidence(11, 73)}, read_failed());
        return std::nullopt;
    }
    const auto file = refer(volume, std::string(name), fmt::format("/{}", name), 0);
    if (file.unreadable()) {
        stop(out, Code::WindowsLoaderUnreadable,
             fmt::format("whether {} is in the root of {} cannot be read", shown, volume.place),
             {evidence_place(fmt::format("{}:/{}", volume.place, name), "readable sectors", *file.error)},
             read_failed());
        return std::nullopt;
    }
    if (!file.found()) {
        stop(out, Code::WindowsLoaderMissing, fmt::format("{} is not in the root of {}", shown, volume.place),
             {evidence_place(fmt::format("{}:/{}", volume.place, name), "a file", *file.error)},
             fmt::format("{} is missing\n{}", shown, restart));
        return std::nullopt;
    }
    const auto info = volume.files(Observer::WindowsLoader)->stat(file.file);
    if (info && (info->attributes & attribute_compressed) != 0 && volume.info.format == Format::Ntfs) {
        stop(out, Code::WindowsLoaderCompressed,
             fmt::format("{} is stored compressed, which the boot code cannot read", file.place),
             {evidence_place(file.place, "not compressed", "the compressed attribute")},
             fmt::format("{} is compressed\n{}", shown, restart));
        return std::nullopt;
    }
    out.route.push_back(file.place);
    const auto ranges = ranges_of(volume, file.file);
    if (!ranges.empty() && file.size >= sector_size) out.next_sector = ranges.front().offset / sector_size;
    return file;
}

constexpr std::uint64_t most_loader = std::uint64_t{4} << 20U;

struct LoaderFault {
    std::string text;
    bool unread = false;  ///< the medium does not give it
};

/// A 16-bit head, and behind it the image that does the work. Large ones may be packed, so that no image is seen.
/// The boot manager's head checks the sum of that image before it starts it (`sum`).
std::optional<LoaderFault> find_loader_fault(const Source& source, bool sum) {
    const ByteSource& file = *source;
    constexpr std::uint64_t most = most_loader;
    constexpr std::uint64_t head_only = 8192;
    const auto bytes = file.bytes(0, std::min(file.size(), most));
    const auto unread = [](const Error& error) { return LoaderFault{"it cannot be read: " + error.what, true}; };
    if (!bytes) return bytes.error().unreadable() ? unread(bytes.error()) : LoaderFault{bytes.error().what};
    for (std::size_t at = 0; at + 64 < bytes->size(); at += 16) {
        if ((*bytes)[at] != 'M' || (*bytes)[at + 1] != 'Z') continue;
        const auto image = inspect_pe(file, at);
        if (!image && image.error().unreadable()) return unread(image.error());
        if (!image) continue;
        if (!image->complete) return LoaderFault{"the image in it is cut short"};
        if (!sum || image->stored_checksum == 0) return std::nullopt;
        // It may end with its last section, or with what was appended to the file.
        for (const std::uint64_t length : {image->end, file.size() - at}) {
            const auto found = pe_checksum(*slice(source, at, length, file.place()));
            if (found && *found == image->stored_checksum) return std::nullopt;
            if (!found && found.error().unreadable()) return unread(found.error());
        }
        return LoaderFault{fmt::format("the image in it fails its own checksum ({:08x})", image->stored_checksum)};
    }
    if (file.size() <= head_only)
        return LoaderFault{fmt::format("only {} of it are there: the image behind its 16-bit head is missing",
                                       size_text(file.size()))};
    return std::nullopt;
}

/// The same; nothing is damaged that is refused.
std::optional<LoaderFault> judge_loader_file(const Source& source, bool sum) {
    auto fault = find_loader_fault(source, sum);
    if (!fault || fault->unread) return fault;
    if (const auto lost = lost_within(*source, 0, most_loader))
        return LoaderFault{"it cannot be read: " + lost->what, true};
    return fault;
}

void count_entries(LoaderRun& out) {
    std::size_t systems = 0;
    for (const auto& entry : out.menu.entries)
        if (entry.kind == EntryKind::Windows) ++systems;
    out.configuration_text = fmt::format("{} gives {} system{}", out.menu.place, systems, systems == 1 ? "" : "s");
}

}  // namespace

bool recognise_manager(std::span<const std::uint8_t> sector) { return asks_for(sector, "BOOTMGR"); }
bool recognise_ntldr(std::span<const std::uint8_t> sector) { return asks_for(sector, "NTLDR"); }

LoaderRun run_manager(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    if (place.volume == nullptr) {
        stop(out, Code::BootSectorGeometry, "a volume's boot code lies where no volume begins", {place.evidence(0, 90)},
             read_failed());
        return out;
    }
    const auto file = find_file(place, "bootmgr", "BOOTMGR", out);
    if (!file) return out;
    const auto source = open_file(*file);
    if (!source) {
        stop(out, Code::WindowsLoaderDamaged, fmt::format("{} cannot be read", file->place),
             {evidence_place(file->place)}, read_failed());
        return out;
    }
    if (const auto why = judge_loader_file(source, true)) {
        stop(out, why->unread ? Code::WindowsLoaderUnreadable : Code::WindowsLoaderDamaged,
             fmt::format("{}: {}", file->place, why->text),
             {evidence_place(file->place, "a whole boot manager", why->text)},
             why->unread ? read_failed() : "BOOTMGR image is corrupt.  The system cannot boot.");
        return out;
    }
    out.loader_text = fmt::format("the boot manager {} is there and whole ({})", file->place, size_text(file->size));
    out.loader_evidence = {evidence_bytes(*source, 0, std::min<std::uint64_t>(source->size(), 512))};
    read_store(machine, *place.volume, "/Boot/BCD", false, out);
    return out;
}

void read_store(const Machine& machine, const Volume& volume, const std::string& path, bool efi, LoaderRun& out) {
    std::string shown = path;
    std::ranges::replace(shown, '/', '\\');
    const std::string where = fmt::format("{}:{}", volume.place, path);
    out.menu.loader = "Windows Boot Manager";
    out.menu.place = where;
    const auto screen = [&](std::string_view status) {
        return fmt::format(
            "Windows Boot Manager\nFile: {}\nStatus: {}\nInfo: An error occurred while attempting to read the boot "
            "configuration data.",
            shown, status);
    };
    const auto file = refer(volume, path, path, 0);
    const auto source = open_file(file);
    if (file.unreadable() || (file.found() && !source)) {
        stop(out, Code::StoreUnreadable, fmt::format("the boot store {} cannot be read", where),
             {evidence_place(where, "readable sectors", file.error.value_or("it cannot be opened"))},
             screen("0xc0000185"));
        return;
    }
    if (!source) {
        stop(out, Code::StoreMissing, fmt::format("the boot store {} is not there", where),
             {evidence_place(where, "a file", file.error.value_or("unreadable"))}, screen("0xc000000f"));
        return;
    }
    std::vector<Source> logs;
    for (const char* ending : {".LOG", ".LOG1", ".LOG2"})
        if (auto log = open_file(refer(volume, path + ending, path + ending, 0))) logs.push_back(log);
    const auto unread = [&](const Error& error) {
        stop(out, Code::StoreUnreadable, fmt::format("the boot store {} cannot be read: {}", where, error.what),
             {evidence_error(error)}, screen("0xc0000185"));
    };
    const auto hive = open_hive(source, logs);
    if (!hive && hive.error().unreadable()) return unread(hive.error());
    if (!hive) {
        stop(out, Code::StoreDamaged, fmt::format("the boot store {} cannot be used: {}", where, hive.error().what),
             {evidence_error(hive.error())}, screen(file.size == 0 ? "0xc000000f" : "0xc000014c"));
        return;
    }
    for (const auto& finding : (*hive)->findings()) out.findings.push_back(finding);
    auto read = read_store_menu(machine, **hive, volume, where, efi);
    // The boot manager takes all of it or nothing; what lies in a sector that it does not get is not absent.
    if (const auto lost = lost_of_hive(*source)) return unread(*lost);
    out.menu = std::move(read.menu);
    out.menu.place = where;
    if (read.empty) {
        stop(out, Code::StoreNoEntry,
             fmt::format("the boot store {} names no system: neither a default nor a display order", where),
             {evidence_place(where, "default or displayorder", "neither")}, screen("0xc0000098"));
        return;
    }
    count_entries(out);
}

namespace {

/// A line of boot.ini: multi(0)disk(0)rdisk(0)partition(1)\WINDOWS="Name" /options
struct ArcEntry {
    std::string arc, directory, title, options;
    int line = 0;
    int rdisk = 0, partition = 0;
    bool arc_form = false;
};

std::optional<int> arc_number(std::string_view text, std::string_view name) {
    const auto at = text.find(name);
    if (at == std::string_view::npos) return std::nullopt;
    int value = 0;
    const auto digits = text.substr(at + name.size());
    const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), value);
    if (error != std::errc{} || end == digits.data() + digits.size() || *end != ')') return std::nullopt;
    return value;
}

ArcEntry parse_arc(std::string_view path) {
    ArcEntry out;
    const auto close = path.rfind(')');
    out.arc = lower_text(path.substr(0, close == std::string_view::npos ? 0 : close + 1));
    out.directory = std::string(path.substr(close == std::string_view::npos ? 0 : close + 1));
    const auto rdisk = arc_number(out.arc, "rdisk(");
    const auto partition = arc_number(out.arc, "partition(");
    out.arc_form = rdisk && partition &&
                   (out.arc.starts_with("multi(") || out.arc.starts_with("scsi(") || out.arc.starts_with("signature("));
    out.rdisk = rdisk.value_or(0);
    out.partition = partition.value_or(0);
    return out;
}

struct BootIni {
    std::string default_path;
    std::optional<int> timeout;
    std::vector<ArcEntry> entries;
};

BootIni parse_ini(std::string_view text) {
    BootIni out;
    int section = 0;
    int number = 0;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        const auto line = trim(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        if (line.empty() || line.front() == ';') continue;
        if (line.front() == '[') {
            const std::string name = lower_text(line);
            section = name.starts_with("[boot loader") || name.starts_with("[flexboot") ? 1
                      : name.starts_with("[operating systems")                          ? 2
                                                                                        : 0;
            continue;
        }
        const auto equals = line.find('=');
        if (equals == std::string_view::npos) continue;
        const auto key = trim(line.substr(0, equals));
        auto value = trim(line.substr(equals + 1));
        if (section == 1) {
            if (lower_text(key) == "default") out.default_path = std::string(value);
            if (lower_text(key) == "timeout") {
                int seconds = 0;
                std::from_chars(value.data(), value.data() + value.size(), seconds);
                out.timeout = seconds;
            }
        } else if (section == 2 && out.entries.size() < 100) {
            auto entry = parse_arc(key);
            entry.line = number;
            if (value.starts_with('"')) {
                const auto close = std::min(value.find('"', 1), value.size());
                entry.title = std::string(value.substr(1, close - 1));
                value = trim(value.substr(std::min(close + 1, value.size())));
            } else {
                const auto slash = std::min(value.find('/'), value.size());
                entry.title = std::string(trim(value.substr(0, slash)));
                value = value.substr(slash);
            }
            entry.options = std::string(value);
            out.entries.push_back(std::move(entry));
        }
    }
    return out;
}

/// NT counts partitions in use: primary ones in table order, then the logical ones; 0 is the whole disk.
VolumeRef arc_volume(const Machine& machine, const BootPlace& place, const ArcEntry& entry) {
    const Disk* disk = machine.drive(entry.rdisk, place.first_drive);
    if (disk == nullptr) return nullptr;
    if (entry.partition == 0) return machine.volume(disk->number, 0);
    int count = 0;
    for (const auto& p : disk->table.partitions)
        if (!p.extended() && ++count == entry.partition) return machine.volume(disk->number, p.number);
    return nullptr;
}

MenuEntry entry_of(const Machine& machine, const BootPlace& place, const ArcEntry& line, const std::string& where,
                   int index) {
    MenuEntry entry;
    entry.title = line.title.empty() ? line.arc + line.directory : line.title;
    entry.place = where;
    entry.line = line.line;
    entry.index = index;
    entry.path = {index};
    if (!line.arc_form) return entry;  // "C:\" starts a saved boot sector: an older system, not walked
    entry.kind = EntryKind::Windows;
    entry.arguments = line.options;
    WindowsStart start;
    start.generation = 5;
    start.system = arc_volume(machine, place, line);
    start.system_device = line.arc;
    start.directory = line.directory;
    std::ranges::replace(start.directory, '\\', '/');
    if (!start.directory.starts_with('/')) start.directory = fmt::format("/{}", start.directory);
    start.safe_mode = lower_text(line.options).find("/safeboot") != std::string::npos;
    entry.windows = std::move(start);
    const Disk* disk = machine.drive(line.rdisk, place.first_drive);
    if (entry.windows->system == nullptr) {
        const std::string why =
            disk == nullptr ? fmt::format("“{}” says rdisk({}), and the machine has {} disk{}", entry.title, line.rdisk,
                                          machine.disks.size(), machine.disks.size() == 1 ? "" : "s")
                            : fmt::format("“{}” says partition({}), and d{} has no such partition as NT counts",
                                          entry.title, line.partition, disk->number);
        entry.messages.push_back(
            {"Windows could not start because of a computer disk hardware configuration problem.\nCould not read from "
             "the selected boot disk. "
             "Check boot path and disk hardware.",
             where, line.line});
        stop(entry, Code::EntryDeviceMissing, why);
        return entry;
    }
    entry.kernel_loaded = true;
    return entry;
}

}  // namespace

LoaderRun run_ntldr(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    if (place.volume == nullptr) {
        stop(out, Code::BootSectorGeometry, "a volume's boot code lies where no volume begins", {place.evidence(0, 90)},
             read_failed());
        return out;
    }
    const auto file = find_file(place, "ntldr", "NTLDR", out);
    if (!file) return out;
    const Volume& volume = *place.volume;
    const auto source = open_file(*file);
    const auto why = source ? judge_loader_file(source, false) : std::optional(LoaderFault{"it cannot be read", true});
    if (why) {
        stop(out, why->unread ? Code::WindowsLoaderUnreadable : Code::WindowsLoaderDamaged,
             fmt::format("{}: {}", file->place, why->text), {evidence_place(file->place, "a whole NTLDR", why->text)},
             why->unread ? read_failed() : "NTLDR is corrupt.  The system cannot boot.");
        return out;
    }
    const auto detect = refer(volume, "NTDETECT.COM", "/NTDETECT.COM", 0);
    if (detect.unreadable()) {
        stop(out, Code::WindowsLoaderUnreadable,
             fmt::format("whether NTDETECT.COM is in the root of {} cannot be read", volume.place),
             {evidence_place(detect.place, "readable sectors", *detect.error)}, "NTDETECT failed");
        return out;
    }
    if (!detect.found() || detect.size == 0) {
        stop(out, Code::WindowsDetectMissing, fmt::format("NTDETECT.COM is not in the root of {}", volume.place),
             {evidence_place(detect.place, "a file", detect.error.value_or("an empty file"))}, "NTDETECT failed");
        return out;
    }
    out.loader_text = fmt::format("{} and {} are there", file->place, detect.place);
    out.loader_evidence = {evidence_place(file->place, {}, size_text(file->size)),
                           evidence_place(detect.place, {}, size_text(detect.size))};
    const std::string where = fmt::format("{}:/boot.ini", volume.place);
    out.menu.loader = "NTLDR";
    out.menu.place = where;
    out.menu.after_error = "";
    const auto ini_file = open_file(refer(volume, "boot.ini", "/boot.ini", 0));
    const auto text = ini_file ? ini_file->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "absent");
    BootIni ini;
    if (text) ini = parse_ini(*text);
    out.menu.timeout = ini.timeout.value_or(0);
    if (ini.entries.empty()) {
        // Without a usable file it starts the default directory of the first partition, after a message.
        ArcEntry usual = parse_arc("multi(0)disk(0)rdisk(0)partition(1)\\WINDOWS");
        usual.title = "Windows (default)";
        out.menu.messages.push_back({"Invalid BOOT.INI file\nBooting from C:\\WINDOWS\\", where, 0});
        out.findings.push_back(make_finding(
            Code::BootIniMissing,
            fmt::format("{} is not there or names no system: NTLDR starts \\WINDOWS on the first partition", where),
            {evidence_place(where, "a file with systems", text ? "no system" : "absent")},
            "Invalid BOOT.INI file\nBooting from C:\\WINDOWS\\"));
        out.menu.entries.push_back(entry_of(machine, place, usual, where, 0));
        const auto* start = out.menu.entries.front().windows ? &*out.menu.entries.front().windows : nullptr;
        const bool there = start != nullptr && start->system != nullptr && plain_view(*start->system) != nullptr &&
                           resolve(*plain_view(*start->system), start->directory);
        if (!there) {
            stop(out, Code::BootIniMissing,
                 fmt::format("{} is not there, and neither is \\WINDOWS on the first partition", where),
                 {evidence_place(where, "a file", "absent")}, "Invalid BOOT.INI file\nBooting from C:\\WINDOWS\\");
            return out;
        }
        count_entries(out);
        out.configuration_lost = true;
        return out;
    }
    const auto chosen = parse_arc(ini.default_path);
    out.menu.default_setting = ini.default_path;
    out.menu.default_matches = ini.default_path.empty();
    int index = 0;
    for (const auto& line : ini.entries) {
        if (!out.menu.default_matches && lower_text(line.arc) == chosen.arc &&
            lower_text(line.directory) == lower_text(chosen.directory)) {
            out.menu.default_entry = index;
            out.menu.default_matches = true;
        }
        out.menu.entries.push_back(entry_of(machine, place, line, where, index++));
    }
    if (!out.menu.default_matches && chosen.arc_form) {
        // A default that is no line of the list is put on top of it.
        auto extra = chosen;
        extra.title = "Windows (default)";
        extra.line = 0;
        out.menu.default_entry = index;
        out.menu.entries.push_back(entry_of(machine, place, extra, where, index));
    }
    count_entries(out);
    return out;
}

std::vector<Menu> configurations(const Machine& machine, const Volume& volume) {
    std::vector<Menu> out;
    for (const auto& [path, efi] :
         {std::pair<const char*, bool>{"/Boot/BCD", false}, {"/EFI/Microsoft/Boot/BCD", true}}) {
        if (!refer(volume, path, path, 0).found()) continue;
        LoaderRun run;
        read_store(machine, volume, path, efi, run);
        if (!run.menu.entries.empty()) out.push_back(std::move(run.menu));
    }
    return out;
}

}  // namespace herberge::loader::windows
