// SPDX-License-Identifier: MIT
// The verdict: for each installed system the best way to it, and how far that gets.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>

#include <herberge/chain.hpp>

#include "walk/linux_walk.hpp"
#include "walk/lost.hpp"
#include "walk/routes.hpp"
#include "walk/windows_walk.hpp"

namespace herberge {

using walk::Artifacts;
using walk::Ladder;
using walk::Route;

namespace {

class Walk {
public:
    Walk(const Machine& machine, walk::Routes routes)
        : machine_(machine), systems_(find_systems(machine)), routes_(std::move(routes)) {}

    Verdict run() {
        Verdict out;
        for (const auto& loader : routes_.loaders)
            if (!loader->stop) out.menus.push_back(loader->menu);
        for (const auto& system : systems_) out.systems.push_back(judge(system));
        lost_systems(out);
        unread_systems(out);
        broken_tools(out);
        if (std::ranges::all_of(out.systems, [](const SystemVerdict& s) { return s.kind == SystemKind::Tool; }))
            out.systems.push_back(judge_unknown());
        draw_graph(out);
        collect_findings(out);
        return out;
    }

private:
    Ladder walk(const Route& route) {
        Ladder ladder = route.ladder;
        const MenuEntry& entry = *route.entry;
        if (entry.windows) {
            walk::walk_windows(machine_, entry, *route.menu, ladder);
        } else if (entry.kind == EntryKind::Linux || entry.stop) {
            const auto* system = walk::system_of(machine_, entry, systems_);
            walk::walk_linux(machine_, entry, *route.menu, artifacts_, ladder,
                             {route.around.locked_down,
                              system != nullptr && system->kind == SystemKind::Medium ? system->volume : nullptr,
                              route.around.controller, route.around.controller_disk, route.around.controller_told_by});
        } else {
            ladder.set(Stage::Entry, State::Unknown,
                       fmt::format("“{}” ({}) is not followed further", entry.title, entry_kind_name(entry.kind)),
                       {evidence_line(entry.place, entry.line)});
        }
        return ladder;
    }

    /// How far a ladder gets: for comparing entries. Starting beats everything.
    static int reach(const Ladder& ladder) {
        if (const auto at = ladder.first_break()) return static_cast<int>(*at);
        return static_cast<int>(stage_count) + (ladder.starts() == Starts::Yes ? 1 : 0);
    }

    SystemVerdict judge(const InstalledSystem& system) {
        SystemVerdict out;
        out.name = system.name;
        out.kind = system.kind;
        out.place = system.volume->place;
        out.version = system.version;
        out.last_used = system.last_used;
        inventory(system, out);
        // Routes come in the order of the menus, what starts by itself first: the first one is the primary entry.
        std::vector<const Route*> own;
        for (const auto& route : routes_.list)
            if (route.entry != nullptr && walk::system_of(machine_, *route.entry, systems_) == &system)
                own.push_back(&route);
        if (own.empty()) return judge_unnamed(system, std::move(out));
        const auto automatic = std::ranges::find_if(own, [](const Route* r) { return r->unattended; });
        const Route* primary = automatic != own.end() ? *automatic : own.front();
        Ladder ladder = walk(*primary);
        out.entry = primary->entry->title;
        out.entry_is_default = primary->unattended;
        // Other entries are walked only when the primary one fails: law 4.
        if (ladder.starts() != Starts::Yes)
            for (const auto* route : own) {
                if (route == primary) continue;
                const Ladder other = walk(*route);
                if (reach(other) <= reach(ladder)) continue;
                out.fallbacks.push_back(
                    {route->entry->title, route->entry->path_text(), other.starts(), other.first_break()});
            }
        return finish(std::move(out), ladder, primary);
    }

    /// Which entries start the system, and which of its kernels none of them does.
    void inventory(const InstalledSystem& system, SystemVerdict& out) {
        out.kernels = system.kernels;
        out.unused_kernels = system.kernels;
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || walk::system_of(machine_, *route.entry, systems_) != &system) continue;
            out.named_by.push_back(
                fmt::format("{} ({}:{})", route.entry->title, route.entry->place, route.entry->line));
            for (const auto& kernel : route.entry->kernel)
                if (kernel.volume == system.volume) std::erase(out.unused_kernels, kernel.real_path);
        }
    }

    static std::string system_node(const SystemVerdict& system) {
        return system.place ? fmt::format("{} ({})", system.name, *system.place) : system.name;
    }

    void draw_graph(Verdict& out) {
        out.graph = routes_.steps;
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || route.menu == nullptr || out.graph.size() > 500) continue;
            const auto* system = walk::system_of(machine_, *route.entry, systems_);
            // The first verdicts are those of the installed systems, in their order.
            const auto target =
                system != nullptr ? out.systems.begin() + (system - systems_.data())
                                  : std::ranges::find_if(out.systems, [&](const SystemVerdict& s) {
                                        return s.entry == route.entry->title && !s.entry.empty() && s.named_by.empty();
                                    });
            StartEdge edge{
                walk::menu_node(*route.menu), {}, route.entry->title, route.unattended, route.entry->stop.has_value()};
            if (target != out.systems.end()) {
                edge.to = system_node(*target);
                // The verdict is about the primary entry; others are as good as their fallback says.
                if (route.entry->title == target->entry) edge.broken = target->starts == Starts::No;
            } else if (walk::names_missing_volume(machine_, *route.entry)) {
                edge.to = "a system that is gone";
                edge.broken = true;
            } else {
                continue;
            }
            out.graph.push_back(std::move(edge));
        }
    }

    /// No entry names this system: either a way breaks before its menu, or it is missing from every menu.
    SystemVerdict judge_unnamed(const InstalledSystem& system, SystemVerdict out) {
        const Route* broken = nullptr;
        int best = -1;
        for (const auto& route : routes_.list) {
            if (route.entry != nullptr) continue;
            // A way that breaks at the system's own volume, or at one whose configuration names it, was meant for it.
            int score = route.chosen.empty() ? 1 : 0;
            for (const auto& volume : route.passed)
                if (volume == system.volume || names_system(*volume, system)) score = 3;
            for (const int number : route.disks) {
                const Disk* disk = machine_.disk(number);
                if (system.volume->disk == number) score = std::max(score, 2);
                for (const auto& volume : disk->volumes)
                    if (score < 3 && names_system(*volume, system)) score = 3;
            }
            if (score > best) {
                best = score;
                broken = &route;
            }
        }
        const bool front = std::ranges::none_of(routes_.list, [](const Route& r) { return r.entry != nullptr; });
        if (broken != nullptr && (front || best >= 2)) return finish(std::move(out), broken->ladder, broken);
        if (const auto core = loader_without_start(system)) {
            Ladder ladder = routes_.list.front().ladder;
            const Disk& disk = *machine_.disk(routes_.first_drive);
            ladder.set(Stage::Loader, State::NotReached, "");
            ladder.set(Stage::BootSector, State::NotReached, "");
            ladder.breaks(Code::BootCodeOfAnotherLoader,
                          fmt::format("GRUB's core image lies at sector {}, and its menu names this system, but the "
                                      "first sector's code is another one",
                                      *core),
                          {evidence_bytes(*disk.source, 0, 440, "GRUB 2 boot code", "other code"),
                           {DiskRange{disk.number, *core * 512, 512}, {}, {}, {}, "GRUB's core image"}},
                          "(another system starts, or its menu comes)");
            Route shown = routes_.list.front();
            shown.entry = nullptr;
            return finish(std::move(out), ladder, &shown);
        }
        const auto menu = std::ranges::find_if(routes_.list, [](const Route& r) { return r.menu != nullptr; });
        if (menu == routes_.list.end())
            return finish(std::move(out), broken != nullptr ? broken->ladder : Ladder(), broken);
        Ladder ladder = menu->ladder;
        if (system.kind == SystemKind::Medium) {
            // What it starts need not be a kernel that lies on it as a file.
            ladder.set(
                Stage::Entry, State::Unknown,
                fmt::format("no entry of {} starts a kernel from this medium; what its entries start is not followed",
                            menu->menu->place),
                {evidence_place(menu->menu->place)});
            Route shown = *menu;
            shown.entry = nullptr;
            return finish(std::move(out), ladder, &shown);
        }
        for (const auto& held : routes_.loaders)
            if (const LoaderRun& loader = *held; loader.configuration_lost) {
                ladder.breaks(
                    Code::ConfigurationLost,
                    fmt::format("{} is not there: {} starts only what is usual, and that is another system",
                                loader.menu.place, loader.name),
                    {evidence_place(loader.menu.place, fmt::format("an entry for {}", system.volume->place), "absent")},
                    loader.menu.messages.empty() ? "" : loader.menu.messages.front().text);
                Route only = *menu;
                only.entry = nullptr;
                return finish(std::move(out), ladder, &only);
            }
        const auto untold = std::ranges::find_if(routes_.list, [](const Route& r) {
            return (r.entry != nullptr && !r.entry->unread.empty()) ||
                   r.ladder.at(Stage::Loader).state == State::Unknown ||
                   r.ladder.at(Stage::Configuration).state == State::Unknown;
        });
        if (untold != routes_.list.end()) {
            ladder.set(
                Stage::Entry, State::Unknown,
                untold->entry != nullptr
                    ? fmt::format("what “{}” starts cannot be looked at: it may be this system", untold->entry->title)
                    : std::string("a loader goes on where it is not followed: it may start this system"),
                {evidence_place(menu->menu->place)});
            Route shown = *menu;
            shown.entry = nullptr;
            return finish(std::move(out), ladder, &shown);
        }
        std::vector<std::string> places;
        std::size_t entries = 0;
        for (const auto& held : routes_.loaders)
            if (const LoaderRun& loader = *held; !loader.stop) {
                places.push_back(loader.menu.place);
                entries += loader.menu.entries.size();
            }
        ladder.breaks(
            Code::EntryNoneForSystem,
            fmt::format("no entry of {} starts the system on {}", fmt::join(places, " or "), system.volume->place),
            {evidence_place(menu->menu->place, fmt::format("an entry for {}", system.volume->place),
                            fmt::format("{} entries, none for it", entries))},
            "(the system is missing from the menu)");
        Route shown = *menu;
        shown.entry = nullptr;
        return finish(std::move(out), ladder, &shown);
    }

    /// The started disk still carries a GRUB core whose menu names the system, and a first sector that does not start
    /// it.
    std::optional<std::uint64_t> loader_without_start(const InstalledSystem& system) {
        const Disk* disk = machine_.disk(routes_.first_drive);
        const auto first = disk != nullptr ? disk->source->bytes(0, 512) : fail(ErrorKind::NotFound, "no disk");
        if (!first || recognise_grub_boot(*first)) return std::nullopt;
        const auto core = find_grub_core(*disk);
        if (!core) return std::nullopt;
        bool named = false;
        machine_.each_volume([&](const Volume& volume) {
            if (!named && volume.disk == disk->number) named = names_system(volume, system);
        });
        return named ? core : std::nullopt;
    }

    /// A configuration on `volume` has an entry for the system, whether or not its loader runs.
    bool names_system(const Volume& volume, const InstalledSystem& system) {
        for (const auto& menu : read_configurations(machine_, volume)) {
            std::vector<const MenuEntry*> all;
            walk::collect_leaves(menu.entries, all);
            for (const auto* entry : all)
                if (walk::system_of(machine_, *entry, systems_) == &system) return true;
        }
        return false;
    }

    /// No system could be identified: what the machine starts unattended is still worth a verdict.
    SystemVerdict judge_unknown() {
        SystemVerdict out;
        out.name = "unidentified system";
        out.kind = SystemKind::Unknown;
        const auto automatic = std::ranges::find_if(routes_.list, [](const Route& r) { return r.unattended; });
        const Route& route = automatic != routes_.list.end() ? *automatic : routes_.list.front();
        if (route.entry == nullptr) return finish(std::move(out), route.ladder, &route);
        if (route.entry->stop && route.entry->stop->code == Code::EntryDeviceMissing &&
            is_medium(routes_.first_drive)) {
            // A medium to repair machines with: its entries are for their disks.
            Ladder ladder = route.ladder;
            ladder.set(Stage::Entry, State::Unknown,
                       fmt::format("“{}” starts something that lies on another machine's disk: {}", route.entry->title,
                                   route.entry->stop->text),
                       {evidence_line(route.entry->place, route.entry->line)});
            out.name = fmt::format("the menu of {}", route.menu->loader);
            out.kind = SystemKind::Medium;
            out.entry = route.entry->title;
            out.entry_is_default = route.unattended;
            return finish(std::move(out), ladder, &route);
        }
        if (walk::is_other_program(*route.entry)) {
            out.name = route.entry->title;
            out.kind = SystemKind::Tool;
        }
        const auto root = walk::named_root(machine_, *route.entry);
        if (root.volume != nullptr) out.place = root.volume->place;
        out.entry = route.entry->title;
        out.entry_is_default = route.unattended;
        return finish(std::move(out), walk(route), &route);
    }

    /// The disk is a disc, or a hybrid of one and a disk.
    [[nodiscard]] bool is_medium(int number) const {
        const Disk* disk = machine_.disk(number);
        return disk != nullptr && (disk->optical || disk->catalogue || disk->emulation != Emulation::None);
    }

    /// Entries whose system is on no partition: perhaps the table has lost it, perhaps it was removed long ago.
    void lost_systems(Verdict& out) {
        std::vector<const Route*> homeless;
        for (const auto& route : routes_.list)
            if (route.entry != nullptr && route.entry->kind == EntryKind::Linux &&
                walk::names_missing_volume(machine_, *route.entry) &&
                walk::system_of(machine_, *route.entry, systems_) == nullptr)
                homeless.push_back(&route);
        for (const auto& lost : walk::find_lost(machine_, homeless)) {
            if (!lost.found) {
                keep(make_finding(
                    Code::EntryStale,
                    fmt::format("“{}” names a volume that is not on this machine ({})", lost.route->entry->title,
                                lost.wanted),
                    {evidence_line(lost.route->entry->place, lost.route->entry->line, lost.wanted, "absent")}));
                continue;
            }
            SystemVerdict verdict;
            verdict.name = lost.name;
            verdict.kind = lost.name.empty() ? SystemKind::Unknown : SystemKind::Linux;
            if (lost.name.empty()) verdict.name = fmt::format("the system that “{}” starts", lost.route->entry->title);
            verdict.place = lost.place;
            verdict.entry = lost.route->entry->title;
            verdict.entry_is_default = lost.route->unattended;
            // Where the loader itself needs the volume, the table is what stops it; else the kernel misses its root
            // later.
            Ladder ladder = lost.route->entry->stop ? lost.route->ladder : walk(*lost.route);
            if (lost.route->entry->stop)
                ladder.breaks(Code::PartitionLost, lost.text, lost.evidence,
                              walk::entry_screen(*lost.route->entry, *lost.route->menu));
            else ladder.add_finding(make_finding(Code::PartitionLost, lost.text, lost.evidence));
            out.systems.push_back(finish(std::move(verdict), ladder, lost.route));
        }
    }

    /// Entries whose system could not be identified because its root lies in something that is not read here, or
    /// because nothing tells where it is: one element for each root that they name.
    void unread_systems(Verdict& out) {
        struct Named {
            VolumeRef volume;  ///< null: none that is there
            std::vector<const Route*> routes;
        };
        std::map<std::string, Named> by_root;
        std::vector<std::string> order;
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || route.entry->kind != EntryKind::Linux ||
                (route.entry->stop && route.entry->unread.empty()))
                continue;
            if (walk::system_of(machine_, *route.entry, systems_) != nullptr || walk::is_other_program(*route.entry))
                continue;
            if (walk::names_missing_volume(machine_, *route.entry)) continue;  // told with the lost ones
            const auto root = walk::named_root(machine_, *route.entry);
            if (root.volume == nullptr && !root.cannot_tell && route.entry->unread.empty()) continue;
            const std::string key = root.volume != nullptr  ? root.volume->place
                                    : !root.written.empty() ? root.written
                                                            : route.entry->title;
            if (!by_root.contains(key)) order.push_back(key);
            by_root.try_emplace(key, Named{root.volume, {}}).first->second.routes.push_back(&route);
        }
        for (const auto& key : order) {
            const auto& [volume, own] = by_root.at(key);
            const auto automatic = std::ranges::find_if(own, [](const Route* r) { return r->unattended; });
            const Route& primary = automatic != own.end() ? **automatic : *own.front();
            SystemVerdict verdict;
            verdict.kind = SystemKind::Unknown;
            verdict.name = fmt::format("the system that “{}” starts", primary.entry->title);
            if (volume != nullptr) verdict.place = volume->place;
            verdict.entry = primary.entry->title;
            verdict.entry_is_default = primary.unattended;
            for (const auto* route : own)
                verdict.named_by.push_back(
                    fmt::format("{} ({}:{})", route->entry->title, route->entry->place, route->entry->line));
            out.systems.push_back(finish(std::move(verdict), walk(primary), &primary));
        }
    }

    /// A tool on a menu is no system; one that cannot be started is worth a word all the same.
    void broken_tools(Verdict& out) {
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || route.entry->kind != EntryKind::Tool || !route.entry->stop ||
                route.entry->kernel.empty())
                continue;
            const auto& file = route.entry->kernel.front();
            SystemVerdict verdict;
            verdict.name = route.entry->title;
            verdict.kind = SystemKind::Tool;
            if (file.volume != nullptr) verdict.place = file.volume->place;
            verdict.entry = route.entry->title;
            Ladder ladder = route.ladder;
            if (route.entry->stop->stage > Stage::Entry)
                ladder.set(Stage::Entry, State::Holds,
                           fmt::format("“{}” names a file that is there", route.entry->title),
                           {evidence_place(file.place)});
            ladder.breaks(route.entry->stop->code, route.entry->stop->text, {evidence_place(file.place)},
                          walk::entry_screen(*route.entry, *route.menu));
            out.systems.push_back(finish(std::move(verdict), ladder, &route));
        }
    }

    SystemVerdict finish(SystemVerdict out, const Ladder& ladder, const Route* route) {
        out.stages = ladder.stages();
        out.starts = ladder.starts();
        out.stops_at = ladder.first_break();
        if (out.stops_at) out.symptom = ladder.symptom();
        if (route != nullptr) {
            out.route = route->hops;
            if (route->entry != nullptr) {
                if (!out.route.empty())
                    out.route.back() = fmt::format("{}:{}", route->entry->place, route->entry->line);
                for (const auto& kernel : route->entry->kernel)
                    if (kernel.found() && !route->entry->stop) out.route.push_back(kernel.place);
            }
        }
        // Behind the first break nothing is reached, whatever was judged.
        bool broken = false;
        for (auto& rung : out.stages) {
            if (broken && rung.stage > *out.stops_at && rung.state != State::Holds) {
                rung.state = State::NotReached;
                rung.text.clear();
            }
            broken = broken || rung.state == State::Breaks;
        }
        for (const auto& finding : ladder.findings()) keep(finding);
        return out;
    }

    void keep(const Finding& finding) {
        const bool known = std::ranges::any_of(
            findings_, [&](const Finding& f) { return f.code == finding.code && f.text == finding.text; });
        if (!known) findings_.push_back(finding);
    }

    void collect_findings(Verdict& out) {
        // Ways that break and that no system needs are worth knowing, too.
        for (const auto& route : routes_.list)
            if (route.entry == nullptr)
                for (const auto& finding : route.ladder.findings()) keep(finding);
        for (const auto& disk : machine_.disks)
            for (const auto& finding : disk.table.findings) keep(finding);
        machine_.each_volume([&](const Volume& volume) {
            if (const auto* fs = volume.files(Observer::Linux))
                for (const auto& finding : fs->remarks()) keep(finding);
        });
        out.findings = std::move(findings_);
        std::ranges::stable_sort(out.findings, {}, [](const Finding& f) { return std::pair(f.severity, f.stage); });
    }

    const Machine& machine_;
    std::vector<InstalledSystem> systems_;
    walk::Routes routes_;
    Artifacts artifacts_;
    std::vector<Finding> findings_;
};

}  // namespace

namespace {
/// Tools on a menu are no systems, unless there is nothing else: a medium with a memory test alone.
std::vector<const SystemVerdict*> counted_systems(const std::vector<SystemVerdict>& systems) {
    std::vector<const SystemVerdict*> out;
    for (const auto& system : systems)
        if (system.kind != SystemKind::Tool) out.push_back(&system);
    if (out.empty())
        for (const auto& system : systems) out.push_back(&system);
    return out;
}
}  // namespace

std::string_view firmware_id(FirmwareKind kind) {
    switch (kind) {
        case FirmwareKind::Bios: return "bios";
        case FirmwareKind::Uefi: return "uefi";
        case FirmwareKind::Auto: break;
    }
    return "auto";
}

FirmwareKind likely_firmware(const Machine& machine, const CheckOptions& options) {
    if (options.firmware != FirmwareKind::Auto) return options.firmware;
    if (options.variables.given()) return FirmwareKind::Uefi;
    // A BIOS needs code in a first sector, and on a GPT disk that code's own partition or a loader with a name: the
    // protective sector of a UEFI disk often holds code that nothing ever runs.
    constexpr std::string_view bios_boot = "21686148-6449-6e6f-744e-656564454649";
    for (const auto& disk : machine.disks) {
        // A disc with an image for a BIOS is meant for one, too.
        if (disk.optical && disk.catalogue &&
            std::ranges::any_of(disk.catalogue->images, [](const CatalogueImage& i) { return i.platform == 0; }))
            return FirmwareKind::Bios;
        const auto first = disk.problem ? fail(ErrorKind::Io, "unreadable") : disk.source->bytes(0, 512);
        if (!first || std::all_of(first->begin(), first->begin() + 440, [](auto b) { return b == 0; })) continue;
        const bool own_partition =
            std::ranges::any_of(disk.table.partitions, [&](const Partition& p) { return p.type_guid == bios_boot; });
        if (disk.table.kind != TableKind::Gpt || own_partition || !identify_loader(*first).empty())
            return FirmwareKind::Bios;
    }
    bool application = false;
    machine.each_volume([&](const Volume& volume) {
        const auto* fs = volume.files(Observer::Uefi);
        application =
            application || (fs != nullptr && volume.as(Observer::Uefi).is(Family::Fat) && resolve(*fs, "/EFI"));
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

Verdict check(const Machine& machine, const CheckOptions& options) {
    const auto firmware = likely_firmware(machine, options);
    Verdict out;
    if (firmware == FirmwareKind::Uefi) {
        const Machine view = after_uefi_firmware(machine);
        const auto uefi = walk::uefi_firmware(view, options.variables, options.secure_boot, options.efi_machine);
        out = Walk(view, walk::find_routes(*uefi)).run();
        for (const auto& finding : options.variables.findings) out.findings.push_back(finding);
    } else {
        // A disc that poses as a floppy or hard disk replaces the medium itself.
        const std::shared_ptr<const Machine> posing = with_emulated_drives(machine);
        const Machine& seen = posing != nullptr ? *posing : machine;
        out = Walk(seen, walk::find_routes(*walk::bios_firmware(seen, options.rehearse))).run();
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
        const bool known = std::ranges::any_of(out, [&](const Menu& m) {
            return m.place == menu.place && m.loader.substr(0, menu.loader.size()) == menu.loader;
        });
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
        const std::string name = run->menu.loader;
        const bool known = std::ranges::any_of(out, [&](const Menu& m) { return m.place == run->menu.place; });
        run->menu.loader = fmt::format("{} ({}, which nothing starts)", name, place.text());
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
    machine.each_volume([&](const Volume& volume) {
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
            menu.loader += " (not reached from the firmware)";
            out.push_back(std::move(menu));
        }
    });
    return out;
}

}  // namespace herberge
