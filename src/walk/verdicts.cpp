// SPDX-License-Identifier: MIT
// The verdicts: whom the ways lead to, and for each of them the best way and how far that gets.
#include "walk/verdicts.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <utility>

#include "loader/family.hpp"
#include "walk/lost.hpp"
#include "walk/whose.hpp"

namespace herberge::walk {

namespace {

/// Whom ways lead to: an installed system, or what an entry names and nothing here shows any more.
struct Target {
    const InstalledSystem* system = nullptr;  ///< null: none that could be identified
    SystemVerdict verdict;                    ///< so far: who it is
    std::vector<const Route*> own;            ///< what starts by itself is the primary way, else the first one
    std::optional<Finding> blame;             ///< why its volume is not found, where the table is to blame
};

class Verdicts {
public:
    Verdicts(const Machine& machine, const Routes& routes)
        : machine_(machine), routes_(routes), systems_(find_systems(machine)), artifacts_(routes.artifacts) {}

    Verdict run() {
        Verdict out;
        out.at_menu_taken = routes_.at_menu_taken;
        for (const auto& loader : routes_.loaders)
            if (!loader->stop) out.menus.push_back(loader->menu);
        installed();
        gone();
        unidentified();
        if (!targets_.empty()) unattended_elsewhere();
        broken_tools();
        for (auto& target : targets_) out.systems.push_back(judge(target));
        if (std::ranges::all_of(out.systems, [](const SystemVerdict& s) {
                return s.kind == SystemKind::Tool || s.kind == SystemKind::Recovery;
            }))
            out.systems.push_back(judge_unknown());
        draw_graph(out);
        collect_findings(out);
        return out;
    }

private:
    // --- whom the ways lead to --------------------------------------------------------------------------------------

    void installed() {
        for (const auto& system : systems_) {
            Target target;
            target.system = &system;
            target.verdict.name = system.name;
            target.verdict.kind = system.kind;
            target.verdict.place = system.volume->place;
            target.verdict.version = system.version;
            target.verdict.last_used = system.last_used;
            target.verdict.kernels = target.verdict.unused_kernels = system.kernels;
            targets_.push_back(std::move(target));
        }
        for (const auto& route : routes_.list) {
            const auto* system = route.entry != nullptr ? system_of(machine_, *route.entry, systems_) : nullptr;
            if (system != nullptr) targets_[static_cast<std::size_t>(system - systems_.data())].own.push_back(&route);
        }
        meant_for_the_only_one();
    }

    /// What starts when nobody chooses, where its loader gives up on it and it is no system's; null: it is not so.
    [[nodiscard]] const Route* stops_by_itself() const {
        const auto found = std::ranges::find_if(
            routes_.list, [](const Route& r) { return r.unattended && r.entry != nullptr && r.entry->stop; });
        return found != routes_.list.end() && !taken(*found) ? &*found : nullptr;
    }

    /// What starts when nobody chooses, names no root and has lost its kernel: where there is but one system, that one
    /// was meant, and it does not start by itself.
    void meant_for_the_only_one() {
        if (systems_.size() != 1 || systems_.front().kind != SystemKind::Linux) return;
        const Route* automatic = stops_by_itself();
        if (automatic == nullptr) return;
        const MenuEntry& entry = *automatic->entry;
        const auto root = named_root(machine_, entry);
        if (entry.kind == EntryKind::Linux && entry.stop->code == Code::EntryKernelMissing &&
            root.kind == RootReference::Kind::Absent && !root.cannot_tell)
            targets_.front().own.push_back(automatic);
    }

    /// What starts by itself and is no system's: systems are judged by entries of their own, so nothing else tells of
    /// it.
    void unattended_elsewhere() {
        const Route* automatic = stops_by_itself();
        if (automatic == nullptr || is_medium(routes_.first_drive)) return;
        const MenuEntry& entry = *automatic->entry;
        keep(make_finding(
            Code::EntryUnattendedStops,
            fmt::format("“{}” starts when nobody chooses, and leads nowhere: {}", entry.title, entry.stop->text),
            {evidence_line(entry.place, entry.line)}));
    }

    /// The target that a way leads to; the end: none so far.
    [[nodiscard]] std::vector<Target>::const_iterator target_of(const Route& route) const {
        return std::ranges::find_if(targets_,
                                    [&](const Target& t) { return std::ranges::find(t.own, &route) != t.own.end(); });
    }
    [[nodiscard]] bool taken(const Route& route) const { return target_of(route) != targets_.end(); }

    static Target named_only(const Route& route) {
        Target out;
        out.verdict.name = fmt::format("the system that “{}” starts", route.entry->title);
        return out;
    }

    /// Entries whose volume is on no partition: perhaps the table has lost it, perhaps it was removed long ago.
    void gone() {
        std::vector<const Route*> homeless;
        for (const auto& route : routes_.list)
            if (route.entry != nullptr && !taken(route) && names_missing_volume(machine_, *route.entry))
                homeless.push_back(&route);
        for (const auto& lost : find_lost(machine_, homeless)) {
            const bool starts_by_itself =
                std::ranges::any_of(lost.routes, [](const Route* r) { return r->unattended; });
            if (!lost.found && !starts_by_itself && !room_for_a_volume(machine_)) {
                keep(make_finding(Code::EntryStale,
                                  fmt::format("“{}” names a volume that is not on this machine ({})",
                                              lost.routes[0]->entry->title, lost.wanted),
                                  {evidence_line(lost.routes[0]->entry->place, lost.routes[0]->entry->line,
                                                 named_root(machine_, *lost.routes[0]->entry).written, "absent")}));
                continue;
            }
            if (!lost.found && is_medium(routes_.first_drive)) continue;  // its entries are for other machines' disks
            Target target = named_only(*lost.routes[0]);
            target.own = lost.routes;
            if (!lost.name.empty()) {
                target.verdict.name = lost.name;
                target.verdict.kind = SystemKind::Linux;
            }
            target.verdict.place = lost.found ? lost.place : blank_partition_of(machine_, *lost.routes[0]->entry);
            if (lost.found) target.blame = make_finding(Code::PartitionLost, lost.text, lost.evidence);
            targets_.push_back(std::move(target));
        }
    }

    /// Entries whose system could not be identified: its root lies in something that is not read here, or holds
    /// nothing that can be read any more, or nothing tells where it is. One target for each root that they name.
    void unidentified() {
        std::map<std::string, std::size_t> by_root;
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || taken(route)) continue;
            const MenuEntry& entry = *route.entry;
            VolumeRef volume;
            std::string key = entry.title;
            const bool recovery = entry.kind == EntryKind::Recovery;
            if (entry.windows && (entry.kind == EntryKind::Windows || recovery)) {
                // What lies in an imaging file is where that is.
                volume = entry.windows->image ? entry.windows->image->volume : entry.windows->system;
            } else if (entry.kind == EntryKind::Linux && !is_other_program(entry) &&
                       !names_missing_volume(machine_, entry)) {
                const auto root = named_root(machine_, entry);
                if (root.volume == nullptr && !root.cannot_tell && entry.unread.empty()) continue;
                if (root.volume == nullptr && entry.stop && entry.unread.empty()) continue;
                volume = root.volume;
                if (!root.written.empty()) key = root.written;
            } else {
                continue;
            }
            if (volume != nullptr) key = volume->place + (recovery ? " recovery" : "");
            const auto [at, added] = by_root.try_emplace(key, targets_.size());
            if (added) {
                targets_.push_back(named_only(route));
                if (volume != nullptr) targets_.back().verdict.place = volume->place;
                if (recovery) targets_.back().verdict.kind = SystemKind::Recovery;
            }
            targets_[at->second].own.push_back(&route);
        }
    }

    /// A tool on a menu is no system; one that cannot be started is worth a word all the same.
    void broken_tools() {
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || route.entry->kind != EntryKind::Tool || !route.entry->stop ||
                route.entry->kernel.empty())
                continue;
            Target target;
            target.verdict.name = route.entry->title;
            target.verdict.kind = SystemKind::Tool;
            if (const auto& volume = route.entry->kernel.front().volume) target.verdict.place = volume->place;
            target.own.push_back(&route);
            targets_.push_back(std::move(target));
        }
    }

    /// The disk is a disc, or a hybrid of one and a disk.
    [[nodiscard]] bool is_medium(int number) const {
        const Disk* disk = machine_.disk(number);
        return disk != nullptr && (disk->optical || disk->catalogue || disk->emulation != Emulation::None);
    }

    // --- how far they get -------------------------------------------------------------------------------------------

    Ladder walk(const Route& route) {
        Ladder ladder = route.ladder;
        const MenuEntry& entry = *route.entry;
        const auto* system = system_of(machine_, entry, systems_);
        const bool medium = system != nullptr && system->kind == SystemKind::Medium;
        Context context(machine_);
        context.artifacts = artifacts_;
        run_program(start_of(route.menu, entry, route.around, medium ? system->volume : nullptr), {}, context, ladder);
        return ladder;
    }

    /// How far a ladder gets: for comparing entries. Starting beats everything.
    static int reach(const Ladder& ladder) {
        if (const auto at = ladder.first_break()) return static_cast<int>(*at);
        return static_cast<int>(stage_count) + (ladder.starts() == Starts::Yes ? 1 : 0);
    }

    SystemVerdict judge(const Target& target) {
        SystemVerdict out = target.verdict;
        for (const auto* route : target.own) {
            out.named_by.push_back(
                fmt::format("{} ({}:{})", route->entry->title, route->entry->place, route->entry->line));
            for (const auto& kernel : route->entry->kernel)
                if (target.system != nullptr && kernel.volume == target.system->volume)
                    std::erase(out.unused_kernels, kernel.real_path);
        }
        if (target.own.empty()) return judge_unnamed(*target.system, std::move(out));
        const auto automatic = std::ranges::find_if(target.own, [](const Route* r) { return r->unattended; });
        const Route* primary = automatic != target.own.end() ? *automatic : target.own.front();
        Ladder ladder = walk_to(target, *primary);
        out.entry = primary->entry->title;
        out.arguments = primary->entry->arguments;
        out.entry_is_default = primary->unattended;
        out.waits_for = primary->waits_for;
        // Other entries are walked only when the primary one fails: law 4.
        if (ladder.starts() != Starts::Yes)
            for (const auto* route : target.own) {
                if (route == primary) continue;
                const Ladder other = walk_to(target, *route);
                if (reach(other) <= reach(ladder)) continue;
                out.fallbacks.push_back(
                    {route->entry->title, route->entry->path_text(), other.starts(), other.first_break()});
            }
        return finish(std::move(out), ladder, primary);
    }

    Ladder walk_to(const Target& target, const Route& route) {
        if (!target.blame) return walk(route);
        // Where the loader itself needs the volume, the table is what stops it; else the kernel misses its root later.
        if (!route.entry->stop) {
            Ladder ladder = walk(route);
            ladder.add_finding(*target.blame);
            return ladder;
        }
        Ladder ladder = route.ladder;
        auto blame = *target.blame;
        blame.symptom = entry_screen(*route.entry, *route.menu);
        ladder.breaks(std::move(blame));
        return ladder;
    }

    /// No entry names this system: either a way breaks before its menu, or it is missing from every menu.
    SystemVerdict judge_unnamed(const InstalledSystem& system, SystemVerdict out) {
        const Route* broken = nullptr;
        int best = -1;
        for (const auto& route : routes_.list) {
            if (route.entry != nullptr) continue;
            // A way that breaks at the system's own volume, or at one whose configuration names it, was meant for it.
            int score = route.chosen.empty() ? 1 : 0;
            for (const auto& application : route.applications)
                if (score < 3 && names_system(application, system)) score = 3;
            for (const auto& volume : route.passed)
                if (score < 3 && (volume == system.volume || names_system(*volume, system))) score = 3;
            for (const int number : route.disks) {
                const Disk* disk = machine_.disk(number);
                if (system.volume->lies_on(number)) score = std::max(score, 2);
                for (const auto& volume : disk->volumes)
                    if (score < 3 && names_system(*volume, system)) score = 3;
            }
            if (score > best) {
                best = score;
                broken = &route;
            }
        }
        if (best < 3)
            for (const auto& refused : routes_.refused) {
                const auto* application = std::get_if<EfiStart>(&refused.what);
                if (application == nullptr || !names_system(*application, system)) continue;
                // Its own loader breaks, whatever the firmware goes on to.
                return finish(std::move(out), refused_ladder(refused), nullptr);
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
            return finish_without_entry(std::move(out), ladder, routes_.list.front());
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
            return finish_without_entry(std::move(out), ladder, *menu);
        }
        for (const auto& held : routes_.loaders)
            if (const LoaderRun& loader = *held; loader.configuration_lost) {
                ladder.breaks(
                    Code::ConfigurationLost,
                    fmt::format("{} is not there: {} starts only what is usual, and that is another system",
                                loader.menu.place, loader.name),
                    {evidence_place(loader.menu.place, fmt::format("an entry for {}", system.volume->place), "absent")},
                    loader.menu.messages.empty() ? "" : loader.menu.messages.front().text);
                return finish_without_entry(std::move(out), ladder, *menu);
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
            return finish_without_entry(std::move(out), ladder, *menu);
        }
        if (system.kind == SystemKind::Recovery) {
            ladder.breaks(Code::RecoveryNotNamed,
                          fmt::format("no recovery sequence of {} leads to {}:{}", menu->menu->place,
                                      system.volume->place, system.directory),
                          {evidence_place(menu->menu->place, "recoverysequence", "none that leads to it")},
                          "(the recovery environment is not offered)");
            return finish_without_entry(std::move(out), ladder, *menu);
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
        return finish_without_entry(std::move(out), ladder, *menu);
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

    static Ladder refused_ladder(const RefusedStart& refused) {
        Ladder ladder;
        if (refused.why.stage > Stage::PartitionTable) {
            ladder.set(Stage::Firmware, State::Holds, "a boot option names the file that starts this system",
                       refused.why.evidence);
            ladder.set(Stage::PartitionTable, State::Holds, "the table leads to the volume that has it",
                       refused.why.evidence);
        }
        ladder.breaks(refused.why);
        return ladder;
    }

    /// The configuration that an application reads has an entry for the system, whether or not it runs. What it is
    /// tells where that lies: GRUB's beside it, the Windows boot manager's store, else the boot manager's entries.
    bool names_system(const EfiStart& application, const InstalledSystem& system) {
        const Volume& volume = *application.volume;
        const auto* fs = volume.files(Observer::Loader);
        if (fs == nullptr) return false;
        const std::string beside = application.path.substr(0, application.path.rfind('/')) + "/grub.cfg";
        Menu menu;
        if (resolve(*fs, beside)) menu = read_grub_config(machine_, volume, beside).menu;
        else if (lower_text(application.path).starts_with("/efi/microsoft/")) return names_system(volume, system);
        else if (lower_text(application.path).find("systemd") == std::string::npos && !resolve(*fs, application.path))
            return false;
        else menu = loader::systemd_boot::run(machine_, volume, application.path, {}).menu;
        return names_system(menu, system);
    }

    bool names_system(const Menu& menu, const InstalledSystem& system) {
        std::vector<const MenuEntry*> all;
        collect_leaves(menu.entries, all);
        return std::ranges::any_of(
            all, [&](const MenuEntry* entry) { return system_of(machine_, *entry, systems_) == &system; });
    }

    /// A configuration on `volume` has an entry for the system, whether or not its loader runs.
    bool names_system(const Volume& volume, const InstalledSystem& system) {
        const auto menus = read_configurations(machine_, volume);
        return std::ranges::any_of(menus, [&](const Menu& menu) { return names_system(menu, system); });
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
            out.arguments = route.entry->arguments;
            out.entry_is_default = route.unattended;
            out.waits_for = route.waits_for;
            return finish(std::move(out), ladder, &route);
        }
        if (is_other_program(*route.entry)) {
            out.name = route.entry->title;
            out.kind = SystemKind::Tool;
        }
        const auto root = named_root(machine_, *route.entry);
        if (root.volume != nullptr) out.place = root.volume->place;
        out.entry = route.entry->title;
        out.arguments = route.entry->arguments;
        out.entry_is_default = route.unattended;
        out.waits_for = route.waits_for;
        return finish(std::move(out), walk(route), &route);
    }

    // --- the graph, and what is worth knowing besides ---------------------------------------------------------------

    static std::string system_node(const SystemVerdict& system) {
        return system.place ? fmt::format("{} ({})", system.name, *system.place) : system.name;
    }

    void draw_graph(Verdict& out) {
        out.graph = routes_.steps;
        for (const auto& route : routes_.list) {
            if (route.entry == nullptr || route.menu == nullptr || out.graph.size() > 500) continue;
            StartEdge edge{
                menu_node(*route.menu), {}, route.entry->title, route.unattended, route.entry->stop.has_value()};
            const auto target = target_of(route);
            const SystemVerdict* to = nullptr;
            if (target != targets_.end()) to = &out.systems[static_cast<std::size_t>(target - targets_.begin())];
            else if (out.systems.size() > targets_.size() && out.systems.back().entry == route.entry->title)
                to = &out.systems.back();
            if (to != nullptr) {
                edge.to = system_node(*to);
                // The verdict is about the primary entry; others are as good as their fallback says.
                if (route.entry->title == to->entry) edge.broken = to->starts == Starts::No;
            } else if (names_missing_volume(machine_, *route.entry)) {
                edge.to = "a system that is gone";
                edge.broken = true;
            } else {
                continue;
            }
            out.graph.push_back(std::move(edge));
        }
    }

    /// The way as far as the menu: none of its entries is this system's.
    SystemVerdict finish_without_entry(SystemVerdict out, const Ladder& ladder, Route route) {
        route.entry = nullptr;
        return finish(std::move(out), ladder, &route);
    }

    SystemVerdict finish(SystemVerdict out, Ladder ladder, const Route* route) {
        ladder.tell_budget();
        if (out.waits_for.empty() && std::ranges::any_of(ladder.findings(), [](const Finding& finding) {
                return finding.code == Code::ServicesRescueAsked || finding.code == Code::RamdiskShellAsked;
            }))
            out.waits_for = "somebody at a shell for repairs";
        tell_losses(ladder);
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

    /// A stage that stops for what is absent or damaged, while a medium has refused bytes that somebody asked for and
    /// the stage does not know of it: the machine misses it as well, and what it misses may lie there.
    void tell_losses(Ladder& ladder) const {
        const auto at = ladder.first_break();
        if (!at) return;
        const StageState& rung = ladder.at(*at);
        const auto tells = [](const std::string& text) {
            return std::ranges::any_of(loss_words,
                                       [&](std::string_view words) { return text.find(words) != text.npos; });
        };
        if (tells(rung.text) || tells(ladder.symptom()) ||
            std::ranges::any_of(rung.evidence, [&](const Evidence& e) { return tells(e.found); }))
            return;
        for (const auto& disk : machine_.disks)
            if (const auto lost = lost_sectors(disk)) {
                std::string words = fmt::format(
                    "; but d{} does not give all that was asked for: what is missed may lie there", disk.number);
                for (const auto& evidence : lost->evidence) ladder.support(*at, std::exchange(words, {}), evidence);
            }
    }

    void keep(const Finding& finding) {
        const bool known = std::ranges::any_of(
            findings_, [&](const Finding& f) { return f.code == finding.code && f.text == finding.text; });
        if (!known) findings_.push_back(finding);
    }

    /// How it is said, here and by loaders and kernels, that bytes could not be had.
    static constexpr std::string_view loss_words[] = {
        "cannot be read", "could not be read", "cannot be looked at", "unreadable",     "reading sector", "ead Error",
        "read error",     "Disk error",        "does not give",       "cannot be told", "nput/output"};

    /// What a disk was asked for in vain.
    static std::optional<Finding> lost_sectors(const Disk& disk) {
        constexpr std::size_t most_shown = 8;
        const auto* damaged = dynamic_cast<const DamagedSource*>(disk.source.get());
        const auto asked =
            damaged != nullptr ? damaged->asked() : std::vector<std::pair<std::uint64_t, std::uint64_t>>{};
        if (asked.empty()) return std::nullopt;
        std::uint64_t bytes = 0;
        std::vector<Evidence> evidence;
        for (const auto& [at, length] : asked) {
            bytes += length;
            if (evidence.size() < most_shown)
                evidence.push_back({DiskRange{disk.number, at, length},
                                    disk.source->place(),
                                    {},
                                    "readable sectors",
                                    "the medium does not give them"});
        }
        return make_finding(
            Code::MediumUnreadable,
            fmt::format("d{} does not give {} that {} asked for, in {} {}: what seems absent or damaged may lie there",
                        disk.number, size_text(bytes), bytes == 1 ? "was" : "were", asked.size(),
                        asked.size() == 1 ? "place" : "places"),
            std::move(evidence));
    }

    void collect_findings(Verdict& out) {
        // Ways that break and that no system needs are worth knowing, too.
        for (const auto& route : routes_.list)
            if (route.entry == nullptr)
                for (const auto& finding : route.ladder.findings()) keep(finding);
        for (const auto& disk : machine_.disks)
            for (const auto& finding : disk.table.findings) keep(finding);
        for (const auto& finding : machine_.layer_findings) keep(finding);
        for (const auto& disk : machine_.disks)
            if (auto lost = lost_sectors(disk)) keep(*lost);
        machine_.each_volume(Observer::Linux, [&](const Volume& volume) {
            if (const auto* fs = volume.files(Observer::Linux))
                for (const auto& finding : fs->remarks()) keep(finding);
        });
        out.findings = std::move(findings_);
        std::ranges::stable_sort(out.findings, {}, [](const Finding& f) { return std::pair(f.severity, f.stage); });
    }

    const Machine& machine_;
    const Routes& routes_;
    std::vector<InstalledSystem> systems_;
    std::vector<Target> targets_;
    std::shared_ptr<Artifacts> artifacts_;
    std::vector<Finding> findings_;
};

}  // namespace

Verdict judge_all(const Machine& machine, const Routes& routes) { return Verdicts(machine, routes).run(); }

}  // namespace herberge::walk
