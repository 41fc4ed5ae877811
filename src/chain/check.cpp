// SPDX-License-Identifier: MIT
// The walk through a BIOS machine: firmware, first sector, loader, menu, and each system's entries.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/chain.hpp>

#include "chain/ladder.hpp"
#include "chain/linux_walk.hpp"
#include "chain/rehearsed.hpp"

namespace herberge {

using chain::Artifacts;
using chain::Ladder;

namespace {

/// What the machine does before any entry is chosen; shared by all systems.
struct Front {
    Ladder ladder;
    std::vector<std::string> route;
    std::optional<GrubRun> grub;
    bool open = true;  ///< nothing has stopped it so far
};

std::string join_lines(const std::vector<std::string>& lines) {
    constexpr std::size_t most = 8;
    const auto from = lines.size() > most ? lines.end() - static_cast<std::ptrdiff_t>(most) : lines.begin();
    return fmt::format("{}", fmt::join(from, lines.end(), "\n"));
}

const Disk* firmware_stage(const Machine& machine, Front& front) {
    std::vector<Evidence> refused;
    for (const auto& disk : machine.disks) {
        if (disk.problem) {
            refused.push_back(evidence_error(*disk.problem));
            continue;
        }
        if (disk.source->size() < 512) {
            refused.push_back(evidence_place(fmt::format("d{}", disk.number), "at least one sector", size_text(disk.source->size())));
            continue;
        }
        const auto mark = disk.source->bytes(510, 2);
        if (!mark) {
            refused.push_back(evidence_error(mark.error()));
            continue;
        }
        if ((*mark)[0] != 0x55 || (*mark)[1] != 0xAA) {
            refused.push_back(evidence_bytes(*disk.source, 510, 2, "55 aa", hex(*mark)));
            continue;
        }
        front.ladder.set(Stage::Firmware, State::Holds, fmt::format("a BIOS starts d{}: its first sector carries the signature 55AA", disk.number),
                         {evidence_bytes(*disk.source, 510, 2, "55 aa", "55 aa")});
        return &disk;
    }
    front.ladder.breaks(Stage::Firmware, "firmware-nothing-to-start", "no disk has a first sector that a BIOS would start", refused,
                        "Boot failed: not a bootable disk\nNo bootable device.");
    front.open = false;
    return nullptr;
}

void table_holds(const Disk& disk, Front& front) {
    if (disk.table.kind == TableKind::None || disk.table.partitions.empty())
        front.ladder.set(Stage::PartitionTable, State::Holds, "no partition was needed so far", {evidence_bytes(*disk.source, 446, 64)});
    else
        front.ladder.set(Stage::PartitionTable, State::Holds,
                         fmt::format("the {} names {} partition{}", disk.table.kind == TableKind::Gpt ? "GPT" : "MBR", disk.table.partitions.size(),
                                     disk.table.partitions.size() == 1 ? "" : "s"),
                         {evidence_bytes(*disk.source, 446, 64)});
}

void grub_stages(const Machine& machine, const Disk& disk, const GrubBoot& boot, Front& front) {
    front.route.push_back(fmt::format("d{} first sector: GRUB 2 boot code", disk.number));
    front.ladder.set(Stage::BootSector, State::NotNeeded, "GRUB's first sector loads its core image directly");
    auto core = read_grub_core(disk, boot);
    if (!core) {
        const auto& problem = core.error();
        const Stage stage = problem.code == "grub-core-pointer" ? Stage::BootCode : Stage::Loader;
        if (stage == Stage::Loader)
            front.ladder.set(Stage::BootCode, State::Holds, fmt::format("GRUB 2 boot code, which loads sector {}", boot.core_sector),
                             {evidence_bytes(*disk.source, 0, 440)});
        front.ladder.breaks(stage, problem.code, problem.text, problem.evidence, problem.screen);
        front.open = false;
        return;
    }
    front.ladder.set(Stage::BootCode, State::Holds, fmt::format("GRUB 2 boot code, which loads its core image from sector {}", boot.core_sector),
                     {evidence_bytes(*disk.source, 0, 440)});
    front.route.push_back(fmt::format("GRUB core image at d{}@{}", disk.number, core->first_sector * 512));
    front.grub = run_grub(machine, *core);
    const GrubRun& run = *front.grub;
    const std::vector<Evidence> core_evidence = {
        Evidence{core->ranges.empty() ? std::nullopt : std::optional(core->ranges.back()),
                 {},
                 {},
                 {},
                 fmt::format("{} unpacked, modules {}, prefix {}", size_text(core->kernel.size()), fmt::join(core->modules, " "), core->prefix)}};
    auto loader_state = core->repaired_bytes > 0 ? State::Doubtful : State::Holds;
    std::string loader_text = core->repaired_bytes > 0
                                  ? fmt::format("the core image is damaged, but repairs itself ({} bytes); its modules are sound", core->repaired_bytes)
                                  : fmt::format("the core image unpacks, and its modules in {} are sound", run.prefix_place);
    auto evidence = core_evidence;
    evidence.insert(evidence.end(), run.loader_evidence.begin(), run.loader_evidence.end());
    for (const auto& finding : core->findings) front.ladder.add_finding(finding);
    if (run.stops_at) {
        front.open = false;
        if (run.stop_code == "grub-prefix-file-system" || run.stop_code == "grub-prefix-device")
            if (const auto lost = find_misplaced_volume(disk)) {
                front.ladder.set(Stage::Loader, State::NotReached, "");
                front.ladder.breaks(Stage::PartitionTable, "partition-entry-misplaced",
                                    fmt::format("{}; a file system ({}, UUID {}) begins at sector {}, where no partition does", run.stop_reason,
                                                lost->info.kind, lost->info.uuid, lost->lba),
                                    {evidence_bytes(*disk.source, 446, 64, fmt::format("a partition from sector {} on", lost->lba), "none"),
                                     {DiskRange{disk.number, lost->lba * 512 + 1024, 1024}, {}, {}, {}, lost->info.kind}},
                                    join_lines(run.screen));
                return;
            }
        if (*run.stops_at > Stage::Loader) front.ladder.set(Stage::Loader, loader_state, loader_text, evidence);
        if (*run.stops_at == Stage::PartitionTable) front.ladder.set(Stage::Loader, State::NotReached, "");
        front.ladder.breaks(*run.stops_at, run.stop_code, run.stop_reason, run.stop_evidence, join_lines(run.screen));
        return;
    }
    front.ladder.set(Stage::Loader, loader_state, std::move(loader_text), std::move(evidence));
    std::size_t count = 0;
    auto counter = [&](auto&& self, const std::vector<MenuEntry>& entries) -> void {
        for (const auto& entry : entries) {
            if (entry.kind == EntryKind::Submenu) self(self, entry.children);
            else ++count;
        }
    };
    counter(counter, run.menu.entries);
    std::string text = run.menu.boots_without_menu ? fmt::format("{} starts a kernel by itself", run.menu.place)
                                                   : fmt::format("{} gives {} entr{}", run.menu.place, count, count == 1 ? "y" : "ies");
    if (!run.menu.timeout && !run.menu.boots_without_menu) text += "; it has no timeout: the menu waits until a key is pressed";
    front.ladder.set(Stage::Configuration, State::Holds, std::move(text), {evidence_place(run.menu.place)});
    const auto syntax = std::ranges::find_if(run.menu.messages, [](const LoaderMessage& m) { return m.text.find("syntax error") != std::string::npos; });
    if (syntax != run.menu.messages.end())
        front.ladder.add_finding(make_finding(
            "grub-config-partly-lost", fmt::format("{} has a syntax error noticed in line {}; what surrounds it is dropped", syntax->place, syntax->line),
            {evidence_line(syntax->place, syntax->line, {}, syntax->text)}, syntax->text));
    front.route.push_back(run.menu.place);
}

void first_sector_stage(const Machine& machine, const Disk& disk, bool rehearsing, Front& front) {
    table_holds(disk, front);
    const auto sector = disk.source->bytes(0, 512);
    if (!sector) {
        front.ladder.breaks(Stage::BootCode, "boot-code-unreadable", "the first sector cannot be read", {evidence_error(sector.error())}, "");
        front.open = false;
        return;
    }
    std::optional<Rehearsal> rehearsal;
    if (rehearsing) rehearsal = rehearse(machine, disk.number, RehearsalOptions::brief());
    if (auto boot = recognise_grub_boot(*sector)) {
        // What the bytes are, and what they do: where the two disagree, the running code is what the machine has.
        const bool reaches = rehearsal && chain::reaches_sector(*rehearsal, disk.number, boot->core_sector);
        if (boot->damage && reaches) {
            front.ladder.add_finding(
                make_finding("rehearsal-contradicts", fmt::format("{}; run in an emulated PC, it loads GRUB's core image all the same", boot->damage->what),
                             {evidence_bytes(*disk.source, 0, 3, boot->damage->expected, boot->damage->found), chain::rehearsal_evidence(*rehearsal)}));
            boot->damage.reset();
        }
        if (boot->damage) {
            front.ladder.breaks(
                Stage::BootCode, "boot-code-damaged", boot->damage->what, {evidence_bytes(*disk.source, 0, 3, boot->damage->expected, boot->damage->found)},
                rehearsal && !rehearsal->text.empty() ? chain::rehearsal_screen(*rehearsal) : "(nothing: the screen stays as the firmware left it)");
            if (rehearsal) front.ladder.support(Stage::BootCode, "", chain::rehearsal_evidence(*rehearsal));
            front.open = false;
            return;
        }
        grub_stages(machine, disk, *boot, front);
        if (rehearsal) chain::compare_with_grub(disk, *boot, *rehearsal, front.ladder);
        if (front.ladder.first_break()) front.open = false;
        return;
    }
    front.open = false;
    if (std::all_of(sector->begin(), sector->begin() + 440, [](auto b) { return b == 0; })) {
        front.ladder.breaks(Stage::BootCode, "boot-code-empty", "the code area of the first sector is empty",
                            {evidence_bytes(*disk.source, 0, 440, "boot code", "zeros")}, "(nothing: the screen stays as the firmware left it)");
        return;
    }
    front.ladder.set(Stage::BootCode, State::Unknown, "the code in the first sector is none that is decoded here", {evidence_bytes(*disk.source, 0, 440)});
    if (rehearsal) chain::judge_by_rehearsal(machine, disk, *rehearsal, front.ladder);
}

void leaves(const std::vector<MenuEntry>& entries, std::vector<const MenuEntry*>& out) {
    for (const auto& entry : entries) {
        if (entry.kind == EntryKind::Submenu) leaves(entry.children, out);
        else out.push_back(&entry);
    }
}

/// The entry that ends up being started unattended: the default, or the first fallback that loads.
const MenuEntry* unattended(const Menu& menu) {
    const MenuEntry* first = menu.unattended();
    if (first == nullptr || first->kernel_loaded) return first;
    for (const int index : menu.fallback) {
        Menu copy = {};
        copy.entries = menu.entries;
        copy.default_entry = index;
        const MenuEntry* candidate = copy.unattended();
        if (candidate == nullptr || !candidate->kernel_loaded) continue;
        // Found in the copy: give the entry of the real menu.
        std::vector<const MenuEntry*> all;
        leaves(menu.entries, all);
        for (const auto* entry : all)
            if (entry->path == candidate->path) return entry;
    }
    return first;
}

class Walk {
public:
    Walk(const Machine& machine, bool rehearsing) : machine_(machine), rehearsing_(rehearsing), systems_(find_systems(machine)) {}

    Verdict run() {
        Verdict out;
        if (const Disk* disk = firmware_stage(machine_, front_)) first_sector_stage(machine_, *disk, rehearsing_, front_);
        if (front_.grub) {
            menu_ = &front_.grub->menu;
            leaves(menu_->entries, entries_);
            for (const auto& entry : menu_->direct) entries_.push_back(&entry);
            if (!front_.grub->stops_at) out.menus.push_back(*menu_);
        }
        for (const auto& system : systems_) out.systems.push_back(judge(system));
        if (out.systems.empty()) out.systems.push_back(judge_unknown());
        collect_findings(out);
        return out;
    }

private:
    struct Walked {
        const MenuEntry* entry;
        Ladder ladder;
    };

    Ladder walk(const MenuEntry& entry) {
        Ladder ladder = front_.ladder;
        if (entry.kind == EntryKind::Linux || entry.stops_at) {
            chain::walk_linux(machine_, entry, *menu_, artifacts_, ladder);
        } else {
            ladder.set(Stage::Entry, State::Unknown, fmt::format("“{}” ({}) is not followed further", entry.title, entry_kind_name(entry.kind)),
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
        out.kind = "linux";
        out.place = system.volume->place;
        if (!front_.open) return finish(out, front_.ladder, nullptr);
        std::vector<const MenuEntry*> own;
        for (const auto* entry : entries_)
            if (chain::system_volume(machine_, *entry, systems_) == system.volume) own.push_back(entry);
        if (own.empty()) {
            Ladder ladder = front_.ladder;
            ladder.breaks(
                Stage::Entry, "entry-none-for-system", fmt::format("no entry of {} starts the system on {}", menu_->place, system.volume->place),
                {evidence_place(menu_->place, fmt::format("an entry for {}", system.volume->place), fmt::format("{} entries, none for it", entries_.size()))},
                "(the system is missing from the menu)");
            return finish(out, ladder, nullptr);
        }
        const MenuEntry* automatic = unattended(*menu_);
        const bool is_default = std::ranges::find(own, automatic) != own.end();
        const MenuEntry* primary = is_default ? automatic : own.front();
        Ladder ladder = walk(*primary);
        out.entry = primary->title;
        out.entry_is_default = is_default;
        // Other entries are walked only when the primary one fails: law 4.
        if (ladder.starts() != Starts::Yes)
            for (const auto* entry : own) {
                if (entry == primary) continue;
                const Ladder other = walk(*entry);
                if (reach(other) <= reach(ladder)) continue;
                out.fallbacks.push_back({entry->title, entry->path_text(), other.starts(), other.first_break()});
            }
        return finish(out, ladder, primary);
    }

    /// No system could be identified: what the machine starts unattended is still worth a verdict.
    SystemVerdict judge_unknown() {
        SystemVerdict out;
        out.name = "unidentified system";
        out.kind = "unknown";
        if (!front_.open || menu_ == nullptr) return finish(out, front_.ladder, nullptr);
        const MenuEntry* entry = unattended(*menu_);
        if (entry == nullptr) return finish(out, front_.ladder, nullptr);
        const auto root = resolve_root(machine_, CommandLine(entry->arguments).value("root").value_or(""));
        if (root.volume != nullptr) out.place = root.volume->place;
        out.entry = entry->title;
        out.entry_is_default = true;
        return finish(out, walk(*entry), entry);
    }

    SystemVerdict finish(SystemVerdict out, const Ladder& ladder, const MenuEntry* entry) {
        out.stages = ladder.stages();
        out.starts = ladder.starts();
        out.stops_at = ladder.first_break();
        if (out.stops_at) out.symptom = ladder.symptom();
        out.route = front_.route;
        if (entry != nullptr) {
            if (!out.route.empty()) out.route.back() = fmt::format("{}:{}", entry->place, entry->line);
            for (const auto& kernel : entry->kernel)
                if (kernel.found() && !entry->stops_at) out.route.push_back(kernel.place);
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
        const bool known = std::ranges::any_of(findings_, [&](const Finding& f) { return f.code == finding.code && f.text == finding.text; });
        if (!known) findings_.push_back(finding);
    }

    void collect_findings(Verdict& out) {
        for (const auto& disk : machine_.disks)
            for (const auto& finding : disk.table.findings) keep(finding);
        machine_.each_volume([&](const Volume& volume) {
            if (volume.kernel_view == nullptr) return;
            for (const auto& finding : volume.kernel_view->remarks()) keep(finding);
        });
        out.findings = std::move(findings_);
        std::ranges::stable_sort(out.findings, {}, [](const Finding& f) { return std::pair(f.severity, f.stage); });
    }

    const Machine& machine_;
    bool rehearsing_;
    std::vector<InstalledSystem> systems_;
    Front front_;
    Artifacts artifacts_;
    const Menu* menu_ = nullptr;
    std::vector<const MenuEntry*> entries_;
    std::vector<Finding> findings_;
};

}  // namespace

std::string_view firmware_id(FirmwareKind kind) { return kind == FirmwareKind::Auto ? "auto" : "bios"; }

std::string_view starts_id(Starts starts) {
    switch (starts) {
        case Starts::Yes: return "yes";
        case Starts::No: return "no";
        case Starts::Unknown: break;
    }
    return "unknown";
}

bool Verdict::all_start() const {
    return !systems.empty() && std::ranges::all_of(systems, [](const SystemVerdict& s) { return s.starts == Starts::Yes; });
}

Verdict check(const Machine& machine, const CheckOptions& options) {
    Verdict out = Walk(machine, options.rehearse).run();
    out.firmware = options.firmware == FirmwareKind::Auto ? FirmwareKind::Bios : options.firmware;
    return out;
}

std::vector<DiskRange> kernel_ranges(const std::vector<Menu>& menus) {
    std::vector<DiskRange> out;
    for (const auto& menu : menus) {
        std::vector<const MenuEntry*> all;
        leaves(menu.entries, all);
        for (const auto* entry : all)
            for (const auto& kernel : entry->kernel) {
                if (!kernel.found() || kernel.volume == nullptr || kernel.volume->loader_view == nullptr) continue;
                const auto extents = kernel.volume->loader_view->extents(kernel.file);
                if (!extents) continue;
                for (const auto& extent : *extents)
                    for (const auto& range : kernel.volume->source->locate(extent.base_offset, extent.length))
                        if (std::ranges::find(out, range) == out.end()) out.push_back(range);
            }
    }
    return out;
}

std::vector<Menu> read_menus(const Machine& machine) {
    std::vector<Menu> out;
    std::vector<std::string> seen;
    for (const auto& disk : machine.disks) {
        const auto sector = disk.source->bytes(0, 512);
        const auto boot = sector ? recognise_grub_boot(*sector) : std::nullopt;
        if (!boot || boot->damage) continue;
        const auto core = read_grub_core(disk, *boot);
        if (!core) continue;
        auto run = run_grub(machine, *core);
        if (run.menu.place.empty()) continue;
        seen.push_back(run.menu.place);
        out.push_back(std::move(run.menu));
    }
    // Configurations that no loader on these disks leads to are worth reading all the same.
    machine.each_volume([&](const Volume& volume) {
        if (volume.loader_view == nullptr) return;
        for (const std::string path : {"/boot/grub/grub.cfg", "/grub/grub.cfg", "/boot/grub2/grub.cfg", "/grub2/grub.cfg"}) {
            const auto found = resolve(*volume.loader_view, path);
            const std::string place = fmt::format("{}:{}", volume.place, path);
            if (!found || std::ranges::find(seen, place) != seen.end()) continue;
            seen.push_back(place);
            auto run = read_grub_config(machine, volume, path);
            run.menu.loader = "GRUB 2 (not reached from a first sector)";
            out.push_back(std::move(run.menu));
        }
    });
    return out;
}

}  // namespace herberge
