// SPDX-License-Identifier: MIT
// The face of the walk: a machine goes in, a verdict or its menus come out.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/board.hpp>
#include <herberge/chain.hpp>

#include "bytes/uniform.hpp"
#include "walk/routes.hpp"
#include "walk/verdicts.hpp"

namespace herberge {

namespace {
/// Tools on a menu are no systems, and neither is what only repairs one, unless there is nothing else: a medium with a
/// memory test alone.
std::vector<const SystemVerdict*> counted_systems(const std::vector<SystemVerdict>& systems) {
    std::vector<const SystemVerdict*> out;
    for (const auto& system : systems)
        if (system.kind != SystemKind::Tool && system.kind != SystemKind::Recovery) out.push_back(&system);
    if (out.empty())
        for (const auto& system : systems) out.push_back(&system);
    return out;
}
}  // namespace

std::string_view firmware_id(FirmwareKind kind) {
    switch (kind) {
        case FirmwareKind::Bios: return "bios";
        case FirmwareKind::Uefi: return "uefi";
        case FirmwareKind::Board: return "board";
        case FirmwareKind::Auto: break;
    }
    return "auto";
}

namespace {

/// No disk has code for a BIOS in its first sector, as far as that can be read.
bool nothing_for_a_bios(const Machine& machine) {
    return std::ranges::all_of(machine.disks, [](const Disk& disk) {
        if (disk.catalogue && disk.optical) return false;
        const auto first = disk.problem ? fail(ErrorKind::Io, "unreadable") : disk.source->bytes(0, 440);
        return first && holds_only(*first, 0);
    });
}

/// The board whose first program lies on the first disk; of several that would take it, the one that comes furthest.
const Board* likely_board(const Machine& machine, const CheckOptions& asked) {
    if (!nothing_for_a_bios(machine)) return nullptr;
    const Board* best = nullptr;
    std::pair<std::size_t, int> furthest{};
    for (const auto* board : fitting_boards(machine)) {
        CheckOptions options = asked;
        options.firmware = FirmwareKind::Board;
        options.board = board->name;
        const auto verdict = check(machine, options);
        std::pair<std::size_t, int> came{};
        for (const auto& system : verdict.systems) {
            came.first += system.starts == Starts::Yes ? 1 : 0;
            came.second = std::max(came.second, system.stops_at ? static_cast<int>(*system.stops_at) : 0);
        }
        if (best != nullptr && came <= furthest) continue;
        best = board;
        furthest = came;
    }
    return best;
}

}  // namespace

FirmwareKind likely_firmware(const Machine& machine, const CheckOptions& options) {
    if (options.firmware != FirmwareKind::Auto) return options.firmware;
    if (options.variables.given()) return FirmwareKind::Uefi;
    // A BIOS needs code in a first sector, and on a GPT disk that code's own partition or a loader with a name: the
    // protective sector of a UEFI disk often holds code that nothing ever runs.
    constexpr std::string_view bios_boot = "21686148-6449-6e6f-744e-656564454649",
                               efi_system = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";
    for (const auto& disk : machine.disks) {
        // A disc with an image for a BIOS is meant for one, too.
        if (disk.optical && disk.catalogue &&
            std::ranges::any_of(disk.catalogue->images, [](const CatalogueImage& i) { return i.platform == 0; }))
            return FirmwareKind::Bios;
        const auto first = disk.problem ? fail(ErrorKind::Io, "unreadable") : disk.source->bytes(0, 512);
        if (!first || holds_only(std::span(*first).first(440), 0)) continue;
        const bool own_partition =
            std::ranges::any_of(disk.table.partitions, [&](const Partition& p) { return p.type_guid == bios_boot; });
        if (disk.table.kind != TableKind::Gpt || own_partition || !identify_loader(*first).empty())
            return FirmwareKind::Bios;
    }
    bool application = false;
    machine.each_volume([&](const Volume& volume) {
        const auto* fs = volume.files(Observer::Uefi);
        if (fs != nullptr && volume.as(Observer::Uefi).is(Family::Fat)) {
            const auto folder = resolve(*fs, "/EFI");
            application = application || folder || folder.error().unreadable();
        }
        // What the medium does not give was there for the firmware, if the table says so.
        const Disk* disk = machine.disk(volume.disk);
        const auto* partition = disk != nullptr ? disk->table.find(volume.partition) : nullptr;
        const auto problem = fs == nullptr ? volume.problem(Observer::Uefi) : std::nullopt;
        application = application ||
                      (problem && problem->unreadable() && partition != nullptr && partition->type_guid == efi_system);
    });
    return application ? FirmwareKind::Uefi : FirmwareKind::Bios;
}

std::string_view starts_id(Starts starts) {
    switch (starts) {
        case Starts::Yes: return "yes";
        case Starts::No: return "no";
        case Starts::Unknown: break;
    }
    return "unknown";
}

bool Verdict::all_start() const {
    const auto counted = counted_systems(systems);
    return !counted.empty() &&
           std::ranges::all_of(counted, [](const SystemVerdict* s) { return s->starts == Starts::Yes; });
}

bool Verdict::some_fail() const {
    const auto counted = counted_systems(systems);
    return counted.empty() ||
           std::ranges::any_of(counted, [](const SystemVerdict* s) { return s->starts == Starts::No; });
}

CheckOptions settled_options(const Machine& machine, const CheckOptions& options) {
    CheckOptions out = options;
    out.firmware = likely_firmware(machine, options);
    const Board* board = out.firmware == FirmwareKind::Board ? find_board(options.board) : nullptr;
    if (options.firmware == FirmwareKind::Auto && out.firmware == FirmwareKind::Uefi &&
        options.efi_machine == EfiMachine::X64) {
        const auto seen = uefi_volumes(machine);
        const auto is_there = [&](EfiMachine kind) {
            return std::ranges::any_of(seen.volumes, [&](const VolumeRef& volume) {
                const auto* fs = volume->files(Observer::Uefi);
                return fs != nullptr && resolve(*fs, efi_fallback_path(kind));
            });
        };
        const bool for_a_pc = is_there(EfiMachine::X64) || is_there(EfiMachine::Ia32);
        const auto all = boards();
        const auto found = std::ranges::find_if(all, [&](const Board& candidate) {
            const auto kind = uefi_of(candidate);
            return kind && is_there(*kind);
        });
        if (!for_a_pc && found != all.end()) board = &*found;
    }
    if (options.firmware == FirmwareKind::Auto && out.firmware == FirmwareKind::Bios)
        if (const Board* guessed = likely_board(machine, options)) {
            out.firmware = FirmwareKind::Board;
            out.board = guessed->name;
        }
    if (board == nullptr) return out;
    if (const auto kind = uefi_of(*board)) {
        out.firmware = FirmwareKind::Uefi;
        out.efi_machine = *kind;
        out.board = board->name;
    }
    return out;
}

Verdict check(const Machine& machine, const CheckOptions& asked) {
    Budget budget(asked.limits);
    const BudgetScope counting(budget);
    const auto options = settled_options(machine, asked);
    const auto firmware = options.firmware;
    const AtMenu* at_menu = options.at_menu ? &*options.at_menu : nullptr;
    Verdict out;
    if (firmware == FirmwareKind::Uefi) {
        const Machine view = after_uefi_firmware(machine);
        const auto uefi = walk::uefi_firmware(view, options.variables, options.secure_boot, options.efi_machine);
        out = walk::judge_all(view, walk::find_routes(*uefi, at_menu));
        for (const auto& finding : options.variables.findings) out.findings.push_back(finding);
        out.board = options.board;
    } else if (const Board* board = firmware == FirmwareKind::Board ? find_board(options.board) : nullptr) {
        out =
            walk::judge_all(machine, walk::find_routes(*walk::board_firmware(machine, *board, options.flash), at_menu));
        out.board = board->name;
    } else {
        // A disc that poses as a floppy or hard disk replaces the medium itself.
        const std::shared_ptr<const Machine> posing = with_emulated_drives(machine);
        const Machine& seen = posing != nullptr ? *posing : machine;
        out = walk::judge_all(seen, walk::find_routes(*walk::bios_firmware(seen, options.rehearse), at_menu));
    }
    out.firmware = firmware;
    return out;
}

std::vector<DiskRange> kernel_ranges(const std::vector<Menu>& menus) {
    std::vector<DiskRange> out;
    for (const auto& menu : menus) {
        std::vector<const MenuEntry*> all;
        walk::collect_leaves(menu.entries, all);
        for (const auto* entry : all)
            for (const auto& kernel : entry->kernel) {
                if (!kernel.found() || kernel.volume == nullptr) continue;
                const auto* fs = kernel.volume->files(Observer::Loader);
                if (fs == nullptr) continue;
                const auto extents = fs->extents(kernel.file);
                if (!extents) continue;
                for (const auto& extent : *extents)
                    for (const auto& range : kernel.volume->source->locate(extent.base_offset, extent.length))
                        if (std::ranges::find(out, range) == out.end()) out.push_back(range);
            }
    }
    return out;
}

namespace {
bool plain_ignores_case(const Volume& volume) {
    const auto* fs = volume.files(Observer::Loader);
    return fs != nullptr && fs->ignores_case();
}
}  // namespace

std::vector<Menu> read_menus(const Machine& machine, const UefiVariables& variables) {
    std::vector<Menu> out;
    auto add = [&](Menu menu) {
        const bool known =
            std::ranges::any_of(out, [&](const Menu& m) { return m.place == menu.place && m.loader == menu.loader; });
        if (!known) out.push_back(std::move(menu));
    };
    const auto bios = walk::bios_firmware(machine, false);
    const auto uefi = walk::uefi_firmware(machine, variables, SecureBoot::Off);
    for (auto* firmware : {bios.get(), uefi.get()})
        for (const auto& held : walk::find_routes(*firmware).loaders) {
            const LoaderRun& loader = *held;
            if (!loader.menu.place.empty() && (!loader.menu.entries.empty() || loader.menu.boots_without_menu))
                add(loader.menu);
        }
    // First sectors and boot sectors that nothing starts may still hold a loader with a menu.
    const int first = machine.disks.empty() ? 0 : machine.disks.front().number;
    auto look = [&](const BootPlace& place) {
        auto run = run_loader(machine, place);
        if (!run || run->menu.place.empty() || (run->menu.entries.empty() && !run->menu.boots_without_menu)) return;
        const bool known = std::ranges::any_of(out, [&](const Menu& m) { return m.place == run->menu.place; });
        run->menu.remark = fmt::format("{}, which nothing starts", place.text());
        if (!known) out.push_back(std::move(run->menu));
    };
    for (const auto& disk : machine.disks)
        if (!disk.problem) look({&disk, nullptr, 0, disk.number, false, 0});
    machine.each_volume([&](const Volume& volume) {
        const auto where = volume.source->locate(0, std::min<std::uint64_t>(512, volume.source->size()));
        if (volume.partition != 0 && !where.empty())
            look({machine.disk(volume.disk), volume.shared_from_this(), where.front().offset / 512, first, false, 0});
    });
    // Configurations that no loader on these disks leads to are worth reading all the same.
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        for (auto& menu : read_configurations(machine, volume)) {
            // FAT names come in either case.
            const auto lower = [](std::string text) {
                std::ranges::transform(text, text.begin(),
                                       [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
                return text;
            };
            const bool any_case = plain_ignores_case(volume);
            if (std::ranges::any_of(out, [&](const Menu& m) {
                    return m.place == menu.place || (any_case && lower(m.place) == lower(menu.place));
                }))
                continue;
            menu.remark = "not reached from the firmware";
            out.push_back(std::move(menu));
        }
    });
    return out;
}

}  // namespace herberge
