// SPDX-License-Identifier: MIT
#include "commands.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <optional>

#include <herberge/herberge.hpp>

#include "inputs.hpp"
#include "output_file.hpp"
#include "views.hpp"

namespace tool {

namespace {

using namespace herberge;

constexpr const char* place_help =
    "a place is written d1, d1p2, lvm/inn/root, open/d1p2, d1p2:/boot/vmlinuz or d1@512+1024";

/// Which of the unreadable sectors a start asks for.
std::string asked_text(const Inputs& opened) {
    constexpr std::size_t most = 12;
    std::vector<std::string> ranges;
    for (const auto& source : opened.damaged)
        for (const auto& [offset, length] : source->asked())
            ranges.push_back(fmt::format("{}@{}+{}", source->place(), offset, length));
    if (ranges.empty()) return "\nNothing that a start reads lies on the unreadable sectors.\n";
    std::string out = fmt::format("\nOf the unreadable sectors, a start asks for {} range{}:\n", ranges.size(),
                                  ranges.size() == 1 ? "" : "s");
    for (std::size_t i = 0; i < std::min(most, ranges.size()); ++i) out += "  " + ranges[i] + "\n";
    if (ranges.size() > most) out += fmt::format("  and {} more\n", ranges.size() - most);
    return out;
}

/// Volumes whose content is not looked at for want of a key.
std::string locked_text(const Machine& machine) {
    std::string out;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        if (volume.info.is(Family::Luks) && !machine.understands(volume))
            out += fmt::format(
                "\n{0} is encrypted: with --unlock {0}=FILE (its passphrase or key file) what lies inside is looked "
                "at, too.\n",
                volume.place);
    });
    return out;
}

}  // namespace

namespace {

/// Where nobody says what starts the machine, and a board would: it is a guess, and said.
std::string board_hint(const Machine& machine, const CheckOptions& wanted, const Verdict& verdict) {
    if (wanted.firmware != FirmwareKind::Auto) return {};
    std::string out;
    if (verdict.firmware == FirmwareKind::Board)
        out = fmt::format(
            "\nNobody said what starts these disks: they have no code for a BIOS, and a first program for a board. "
            "They "
            "are taken for {}'s; with --firmware bios a PC is taken.\n",
            find_board(verdict.board)->title);
    else if (!verdict.board.empty())
        out =
            "\nNobody said what starts these disks: their EFI files are for no PC. With --firmware uefi a PC is "
            "taken.\n";
    std::string names;
    for (const auto* board : fitting_boards(machine))
        if (board->name != verdict.board) names += fmt::format("{}board:{}", names.empty() ? "" : ", ", board->name);
    if (!names.empty())
        out += fmt::format("\n{}: with --firmware and one of {} the way that such a board takes is followed.\n",
                           verdict.firmware == FirmwareKind::Board ? "Other boards would take that program, too"
                                                                   : "What a board starts lies on these disks, too",
                           names);
    return out;
}

}  // namespace

int run_check(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    const Verdict verdict = check(opened.machine, wanted);
    const Terminal terminal;
    print(options.format == "json" ? check_json(opened.machine, verdict)
                                   : check_text(opened.machine, verdict, terminal, options.all_evidence));
    if (!options.unreadable.empty() && options.format != "json") print(asked_text(opened));
    if (options.format != "json") print(locked_text(opened.machine) + board_hint(opened.machine, wanted, verdict));
    if (options.stats) opened.stats();
    if (verdict.all_start()) return Exit::all_start;
    return verdict.some_fail() || options.strict ? Exit::some_fail : Exit::cannot_tell;
}

int run_systems(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    const Verdict verdict = check(opened.machine, wanted);
    const Terminal terminal;
    if (options.format == "dot") print(graph_dot(verdict));
    else if (options.format == "svg") print(graph_svg(verdict));
    else {
        // The firmware that was asked for or found decides whether applications are of interest.
        const auto files =
            verdict.firmware == FirmwareKind::Uefi
                ? find_efi_files(opened.machine, wanted.variables, settled_options(opened.machine, wanted).efi_machine)
                : std::vector<EfiFile>{};
        print(options.format == "json" ? systems_json(verdict, files)
                                       : systems_text(verdict, terminal) + efi_files_text(files, terminal));
    }
    if (options.stats) opened.stats();
    return Exit::all_start;
}

int run_layout(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    const Terminal terminal;
    print(options.format == "json" ? layout_json(opened.machine) : layout_text(opened.machine, terminal));
    if (options.stats) opened.stats();
    return Exit::all_start;
}

int run_entries(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    std::vector<BootOptionState> boot;
    if (wanted.variables.given()) boot = inspect_boot_options(opened.machine, wanted.variables, wanted.efi_machine);
    // What a board's loader starts is told by its commands: it is walked.
    const auto settled = settled_options(opened.machine, wanted);
    const auto menus = !wanted.board.empty() || settled.firmware == FirmwareKind::Board
                           ? check(opened.machine, settled).menus
                           : read_menus(opened.machine, wanted.variables);
    const Terminal terminal;
    if (options.format == "json") print(entries_json(menus, boot));
    else
        print((wanted.variables.given()
                   ? boot_options_text(boot, terminal) + secure_boot_text(wanted.variables, terminal) + "\n"
                   : std::string{}) +
              entries_text(menus, terminal));
    if (options.stats) opened.stats();
    return Exit::all_start;
}

int run_variables(const Options& options) {
    const auto variables = read_uefi_variables(options.variables);
    if (!variables) return complain(Exit::unreadable, printable(variables.error().text()));
    if (!options.name.empty() &&
        std::ranges::find(variables->all, options.name, &UefiVariable::name) == variables->all.end())
        return complain(Exit::usage, fmt::format("no variable is named “{}”", options.name));
    const Terminal terminal;
    print(options.format == "json" ? variables_json(*variables, options.name)
                                   : variables_text(*variables, options.name, terminal));
    return Exit::all_start;
}

namespace {

/// The volume of a place, or nothing (already complained).
VolumeRef volume_of(const Inputs& opened, const Place& place) {
    VolumeRef volume = opened.machine.at(place.volume());
    if (volume == nullptr) {
        complain(Exit::usage, fmt::format("there is no volume {}", printable(place.volume())));
        return nullptr;
    }
    if (volume->files(herberge::Observer::Analyst) == nullptr) {
        complain(
            Exit::unreadable,
            fmt::format("{} cannot be listed: {}", volume->place,
                        printable(volume->problem(herberge::Observer::Analyst).value_or(herberge::Error{}).text())));
        return nullptr;
    }
    return volume;
}

/// What a place counts its bytes in: a disk, a volume, or a file; nonzero: already complained.
int base_of(const Inputs& opened, const Place& place, Source& out) {
    if (place.path) {
        const VolumeRef volume = volume_of(opened, place);
        if (volume == nullptr) return Exit::unreadable;
        const FileSystem& fs = *volume->files(herberge::Observer::Analyst);
        const auto found = resolve(fs, *place.path);
        if (!found) return complain(Exit::unreadable, printable(found.error().text()));
        auto file = fs.open(found->file.id, fmt::format("{}:{}", volume->place, found->path));
        if (!file) return complain(Exit::unreadable, printable(file.error().text()));
        out = *file;
        return 0;
    }
    if (place.layered.empty() && place.partition == 0) {
        if (const Disk* disk = opened.machine.disk(place.disk)) out = disk->source;
    } else if (const VolumeRef volume = opened.machine.at(place.volume())) {
        out = volume->source;
    }
    return out != nullptr ? 0 : complain(Exit::usage, "there is no such disk or volume");
}

/// One sector or structure, as text or JSON.
void print_view(const Options& options, const SectorView& view) {
    const Terminal terminal;
    print(options.format == "json" ? sector_json(view.place, view.kind, view.fields) : sector_text(view, terminal));
}

/// Structures of the kind that the user names, wherever they are said to lie.
int show_structure(const Options& options, const Inputs& opened) {
    const auto* const kind = herberge::structure_kind(options.structure);
    if (kind == nullptr)
        return complain(Exit::usage,
                        fmt::format("there is no kind of structure “{}”; --kinds lists them", options.structure));
    auto place = parse_place(options.place.empty() ? "d1" : options.place);
    if (!place) return complain(Exit::usage, fmt::format("“{}” is not a place; {}", options.place, place_help));
    Source source;
    if (const int problem = base_of(opened, *place, source); problem != 0) return problem;
    const auto view = view_structure(*source, place->offset.value_or(0) + options.byte, *kind, options.count);
    if (!view) return complain(Exit::unreadable, printable(view.error().text()));
    print_view(options, *view);
    return Exit::all_start;
}

/// A sector of a volume that layers make.
int show_layered_sector(const Options& options, const Inputs& opened, const Place& place) {
    const VolumeRef volume = opened.machine.at(place.layered);
    if (volume == nullptr || volume->not_assembled)
        return complain(Exit::usage,
                        fmt::format("there is no volume {}{}", printable(place.layered),
                                    volume == nullptr ? "" : ": " + printable(volume->not_assembled->what)));
    const auto view = view_sector(*volume, place.offset.value_or(0) / 512);
    if (!view) return complain(Exit::unreadable, printable(view.error().text()));
    print_view(options, *view);
    if (options.stats) opened.stats();
    return Exit::all_start;
}

}  // namespace

int run_sector(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    if (!options.structure.empty()) return show_structure(options, opened);
    std::vector<std::pair<const Disk*, std::uint64_t>> wanted;
    if (options.place.empty()) {
        for (const auto& disk : opened.machine.disks) {
            wanted.emplace_back(&disk, 0);
            if (!options.boot_sectors) continue;
            for (const auto& held : disk.volumes) {
                const herberge::Volume& volume = *held;
                const auto where = volume.source->locate(0, std::min<std::uint64_t>(512, volume.source->size()));
                if (volume.partition != 0 && !where.empty() && where.front().offset != 0)
                    wanted.emplace_back(&disk, where.front().offset / 512);
            }
            if (!disk.catalogue) continue;
            wanted.emplace_back(&disk, disk.catalogue->offset / 512);
            for (const auto& image : disk.catalogue->images) wanted.emplace_back(&disk, image.offset / 512);
        }
    } else {
        const auto place = parse_place(options.place);
        if (!place || place->path)
            return complain(Exit::usage, fmt::format("“{}” is not a sector; {}", options.place, place_help));
        if (!place->layered.empty()) return show_layered_sector(options, opened, *place);
        const Disk* disk = opened.machine.disk(place->disk);
        if (disk == nullptr) return complain(Exit::usage, fmt::format("there is no disk d{}", place->disk));
        std::uint64_t lba = place->offset.value_or(0) / 512;
        if (place->partition != 0) {
            const auto* partition = disk->table.find(place->partition);
            if (partition == nullptr)
                return complain(Exit::usage,
                                fmt::format("there is no partition d{}p{}", place->disk, place->partition));
            lba += partition->first_lba;
        }
        wanted.emplace_back(disk, lba);
    }
    bool first = true;
    for (const auto& [disk, lba] : wanted) {
        const auto view = view_sector(*disk, lba);
        if (!view) return complain(Exit::unreadable, printable(view.error().text()));
        if (!first) print("\n");
        first = false;
        print_view(options, *view);
    }
    if (options.stats) opened.stats();
    return Exit::all_start;
}

int list_structures() {
    for (const auto& kind : herberge::structure_kinds())
        print(fmt::format("{:<28}{:>5} bytes  {}\n", kind.name, kind.size, kind.meaning));
    return Exit::all_start;
}

int run_files(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    auto place = parse_place(options.place);
    if (!place || place->offset)
        return complain(Exit::usage, fmt::format("“{}” is not a directory; {}", options.place, place_help));
    VolumeRef volume = volume_of(opened, *place);
    if (volume == nullptr) return Exit::unreadable;
    const FileSystem& fs = *volume->files(herberge::Observer::Analyst);
    const std::string path = place->path.value_or("/");
    const auto found = resolve(fs, path);
    if (!found) {
        std::string text = printable(found.error().text());
        for (const auto& near : near_misses(fs, path)) text += fmt::format("; there is {}", printable(near));
        return complain(Exit::unreadable, text);
    }
    std::vector<ListedFile> files;
    auto add = [&](const std::string& name, FileId id) {
        ListedFile file{name, {}, {}};
        if (const auto info = fs.stat(id)) file.info = *info;
        if (file.info.type == FileType::Symlink) file.target = fs.link_target(id).value_or("?");
        files.push_back(std::move(file));
    };
    if (found->file.type == FileType::Directory) {
        const auto names = fs.list(found->file.id);
        if (!names) return complain(Exit::unreadable, printable(names.error().text()));
        for (const auto& entry : *names)
            if (entry.name != "." && entry.name != "..") add(entry.name, entry.id);
        std::ranges::sort(files, {}, &ListedFile::name);
    } else {
        add(found->path, found->file.id);
    }
    const std::string shown = fmt::format("{}:{}", volume->place, found->path);
    const Terminal terminal;
    print(options.format == "json" ? files_json(shown, files) : files_text(shown, files, terminal));
    if (options.stats) opened.stats();
    return Exit::all_start;
}

int run_copy(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    const auto place = parse_place(options.place);
    if (!place || (!place->path && !place->offset))
        return complain(Exit::usage,
                        fmt::format("“{}” is neither a file nor a byte range; {}", options.place, place_help));
    Source source;
    if (const int problem = base_of(opened, *place, source); problem != 0) return problem;
    if (!place->path) {
        if (*place->offset > source->size() || place->length > source->size() - *place->offset)
            return complain(Exit::usage, fmt::format("{} has only {} bytes", source->place(), source->size()));
        source = slice(source, *place->offset, place->length, options.place);
    }
    // Never over an image: what is inspected stays as it is.
    for (const auto& image : options.images) {
        std::error_code ignored;
        if (options.output != "-" && std::filesystem::equivalent(image, options.output, ignored))
            return complain(Exit::usage, "the output is one of the images, which are never written");
    }
    OutputFile file;
    if (const auto problem = file.open(options.output, options.replace); !problem.empty())
        return complain(Exit::unreadable, problem);
    constexpr std::uint64_t step = std::uint64_t{1} << 20U;
    for (std::uint64_t at = 0; at < source->size(); at += step) {
        const auto part = source->bytes(at, std::min(step, source->size() - at));
        if (!part)
            return complain(Exit::unreadable,
                            fmt::format("{} (after {} bytes; nothing was kept)", printable(part.error().text()), at));
        if (!file.write(*part))
            return complain(Exit::unreadable, fmt::format("{} could not be written", printable(options.output)));
    }
    if (!file.keep())
        return complain(Exit::unreadable, fmt::format("{} could not be written", printable(options.output)));
    fmt::print(stderr, "{} bytes ({}) copied from {}\n", source->size(), size_text(source->size()),
               printable(source->place()));
    return Exit::all_start;
}

namespace {

/// "2:esc,3.5:enter": seconds after power-on and a key.
std::optional<std::vector<KeyPress>> parse_keys(std::string_view text) {
    std::vector<KeyPress> out;
    while (!text.empty()) {
        const auto comma = std::min(text.find(','), text.size());
        const auto part = text.substr(0, comma);
        text.remove_prefix(std::min(comma + 1, text.size()));
        const auto colon = part.find(':');
        if (colon == std::string_view::npos) return std::nullopt;
        const auto code = key_code(part.substr(colon + 1));
        const std::string seconds(part.substr(0, colon));
        char* end = nullptr;
        const double when = std::strtod(seconds.c_str(), &end);
        if (!code || seconds.empty() || *end != '\0' || !(when >= 0 && when < 86400)) return std::nullopt;
        out.push_back({when, *code});
    }
    std::ranges::stable_sort(out, {}, &KeyPress::seconds);
    return out;
}

}  // namespace

int run_rehearse(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    RehearsalOptions wanted;
    wanted.name_files = true;
    wanted.most_instructions = static_cast<std::uint64_t>(options.millions * 1e6);
    const auto keys = parse_keys(options.keys);
    if (!keys)
        return complain(Exit::usage,
                        fmt::format("“{}” is no list of keys; it looks like 2:esc,3.5:enter", options.keys));
    wanted.keys = *keys;
    if (!options.until.empty()) {
        wanted.until = stage_from_id(options.until);
        if (!wanted.until) return complain(Exit::usage, fmt::format("there is no stage “{}”", options.until));
    }
    // Loading the kernel costs most of the time and shows nothing that decoding does not know.
    if (wanted.until != Stage::Kernel) wanted.kernels = kernel_ranges(read_menus(opened.machine));
    const auto posing = with_emulated_drives(opened.machine);
    const Rehearsal rehearsal = rehearse(posing != nullptr ? *posing : opened.machine, 1, wanted);
    const Terminal terminal;
    print(options.format == "json" ? rehearsal_json(rehearsal) : rehearsal_text(rehearsal, terminal));
    if (options.stats) opened.stats();
    return rehearsal.end == RehearsalEnd::KernelEntered || rehearsal.end == RehearsalEnd::KernelRead ||
                   rehearsal.end == RehearsalEnd::UntilReached
               ? Exit::all_start
               : Exit::some_fail;
}

}  // namespace tool
