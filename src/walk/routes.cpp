// SPDX-License-Identifier: MIT
// The walk over all starts, under any firmware: from power-on through code, loaders and menus to every entry.
#include "walk/routes.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "loader/family.hpp"

namespace herberge::walk {

namespace {

constexpr std::size_t most_depth = 8;
constexpr std::size_t most_routes = 2000;

bool is_unfollowed(const Start& start) { return std::holds_alternative<UnfollowedStart>(start); }

Step run_unfollowed(const Start& start, const Before& /*before*/, Context& /*context*/, Ladder& ladder) {
    const MenuEntry& entry = *std::get<UnfollowedStart>(start).entry;
    ladder.set(Stage::Entry, State::Unknown,
               fmt::format("“{}” ({}) is not followed further", entry.title, entry_kind_name(entry.kind)),
               {evidence_line(entry.place, entry.line)});
    return {};
}

constexpr Program programs[] = {
    {"code in a sector", is_sector, run_sector}, {"an EFI application", is_application, run_application},
    {"a program in memory", is_flat, run_flat},  {"a Linux kernel", is_linux, run_linux},
    {"Windows' own loader", is_nt, run_nt},      {"something that is not followed", is_unfollowed, run_unfollowed},
};

}  // namespace

Step run_program(const Start& start, const Before& before, Context& context, Ladder& ladder) {
    const auto* program = std::ranges::find_if(programs, [&](const Program& p) { return p.bid(start); });
    return program->run(start, before, context, ladder);
}

Start start_of(const std::shared_ptr<const Menu>& menu, const MenuEntry& entry, const Surroundings& around,
               VolumeRef medium) {
    if (entry.windows) return NtStart{menu, &entry};
    if (entry.kind == EntryKind::Linux || entry.stop) return LinuxStart{menu, &entry, around, std::move(medium)};
    return UnfollowedStart{menu, &entry};
}

namespace {

/// A file that somebody names by its place: "d1p2:/boot/vmlinuz".
FileReference named_by_hand(const Machine& machine, const std::string& place) {
    const auto colon = place.find(':');
    const auto volume = machine.at(place.substr(0, colon));
    if (volume == nullptr || colon == std::string::npos) {
        FileReference out;
        out.written = place;
        out.place = place;
        out.miss(Lack::Absent, fmt::format("there is no volume {}", place.substr(0, colon)));
        return out;
    }
    return loader::refer(*volume, place, place.substr(colon + 1), 0);
}

/// `menu` with nothing in it but what somebody writes at its prompt.
std::shared_ptr<const Menu> menu_by_hand(const Machine& machine, const Menu& menu, const HandEntry& hand) {
    auto out = std::make_shared<Menu>(menu);
    MenuEntry entry;
    entry.title = "by hand";
    entry.place = menu.place;
    entry.path = {0};
    entry.kind = EntryKind::Linux;
    entry.arguments = hand.arguments;
    entry.kernel.push_back(named_by_hand(machine, hand.kernel));
    for (const auto& file : hand.ramdisks) entry.ramdisks.push_back(named_by_hand(machine, file));
    entry.kernel_loaded = entry.kernel.front().found();
    for (const auto* file : {&entry.kernel.front(), entry.ramdisks.empty() ? nullptr : &entry.ramdisks.front()})
        if (file != nullptr && !file->found() && !entry.stop)
            entry.stop = make_finding(Code::EntryKernelMissing,
                                      fmt::format("{} cannot be loaded: {}", file->written, *file->error),
                                      {evidence_place(file->place, file->written, *file->error)});
    out->entries = {std::move(entry)};
    out->direct.clear();
    out->boots_without_menu = false;
    out->default_entry = 0;
    return out;
}

/// Where an entry leads on: to further code, which is walked; none: to a system, or to nothing.
struct Onward {
    std::optional<Start> start;
    std::string unfollowed;  ///< why code that it starts is not walked; empty: it is
};

class Walker {
public:
    Walker(Firmware& firmware, const AtMenu* at_menu)
        : firmware_(firmware), context_(firmware.context()), at_menu_(at_menu) {}

    Routes run() {
        for (bool more = true; more;) {
            Route route;
            std::string label;
            const auto start = firmware_.power_on(route.ladder, route.around, label);
            if (!start) {
                if (out_.list.empty()) end(std::move(route));
                break;
            }
            if (out_.first_drive == 0) out_.first_drive = disk_of(*start);
            std::string from = "firmware";
            if (const auto* flat = std::get_if<FlatStart>(&*start))
                for (const auto& hop : flat->before) {
                    edge({from, hop, false}, label, true);
                    from = hop;
                }
            edge({from, start_text(*start), false, false, in_sector(*start)}, label, true);
            came_back_ = false;
            follow(*start, std::move(route));
            more = came_back_;
        }
        out_.refused = firmware_.refused();
        out_.artifacts = context_.artifacts;
        return std::move(out_);
    }

private:
    static int disk_of(const Start& start) {
        if (const auto* sector = std::get_if<SectorStart>(&start)) return sector->place.disk->number;
        if (const auto* flat = std::get_if<FlatStart>(&start)) return flat->disk;
        return std::get<EfiStart>(start).volume->disk;
    }

    /// Code of a disk's or volume's own sector, not of a boot image.
    static bool in_sector(const Start& start) {
        const auto* sector = std::get_if<SectorStart>(&start);
        return sector != nullptr && sector->place.image == 0;
    }

    void end(Route route) {
        if (out_.list.size() < most_routes) out_.list.push_back(std::move(route));
    }

    void edge(const Edge& edge, const std::string& label, bool unattended) {
        const bool known = std::ranges::any_of(
            out_.steps, [&](const StartEdge& s) { return s.from == edge.from && s.to == edge.to && s.label == label; });
        if (!known)
            out_.steps.push_back(
                {edge.from, edge.to, label, unattended, edge.broken, edge.from_sector, edge.to_sector});
    }

    void follow(const Start& start, Route route) {
        // FAT names come in either case.
        const std::string key = lower_text(start_text(start));
        if (std::ranges::find(path_, key) != path_.end()) {
            route.ladder.breaks(
                Code::ChainLoop,
                fmt::format("{} is started again: the loaders start each other in a circle{}", start_text(start),
                            route.chosen.empty() ? "" : fmt::format(" ({})", fmt::join(route.chosen, " → "))),
                {start_evidence(start)}, "(the same menu comes again and again)");
            end(std::move(route));
            return;
        }
        if (path_.size() >= most_depth) {
            route.ladder.set(Stage::Entry, State::Unknown, "more loaders follow each other than are followed here");
            end(std::move(route));
            return;
        }
        path_.push_back(key);
        take(start, std::move(route));
        path_.pop_back();
    }

    void take(const Start& start, Route route) {
        const Before before{path_.size() - 1, !route.chosen.empty()};
        const Step step = run_program(start, before, context_, route.ladder);
        route.hops.insert(route.hops.end(), step.hops.begin(), step.hops.end());
        route.passed.insert(route.passed.end(), step.passed.begin(), step.passed.end());
        for (const auto& arrow : step.edges) edge(arrow, {}, route.unattended);
        if (step.run != nullptr) out_.loaders.push_back(step.run);
        if (const auto* application = std::get_if<EfiStart>(&start); application != nullptr && step.run != nullptr)
            route.applications.push_back(*application);
        if (step.run != nullptr && step.run->returns && path_.size() == 1) came_back_ = true;
        if (step.next) follow(*step.next, std::move(route));
        else if (step.offers) offer(start, step.run, std::move(route));
        else end(std::move(route));
    }

    /// Every entry of a loader's menu, what starts by itself first: that is what a system's verdict is about.
    void offer(const Start& from, const std::shared_ptr<const LoaderRun>& run, Route route) {
        route.menu = std::shared_ptr<const Menu>(run, &run->menu);
        const bool by_hand = at_menu_ != nullptr && at_menu_->by_hand && !out_.at_menu_taken;
        if (by_hand) route.menu = menu_by_hand(context_.machine, run->menu, *at_menu_->by_hand);
        const Menu& menu = *route.menu;
        std::vector<const MenuEntry*> all;
        collect_leaves(menu.entries, all);
        for (const auto& entry : menu.direct) all.push_back(&entry);
        const MenuEntry* chosen = by_hand ? all.front() : chosen_of(all);
        out_.at_menu_taken = out_.at_menu_taken || chosen != nullptr;
        const MenuEntry* automatic = chosen != nullptr ? chosen : unattended_entry(menu);
        std::stable_partition(all.begin(), all.end(), [&](const MenuEntry* e) { return e == automatic; });
        for (const auto* entry : all) {
            Route next = route;
            next.entry = entry;
            if (chosen == nullptr && next.waits_for.empty()) next.waits_for = wanted_by(menu, *entry);
            next.unattended = route.unattended && entry == automatic && next.waits_for.empty();
            const auto onward = onward_from(from, *entry);
            if (!onward.unfollowed.empty())
                next.ladder.set(Stage::Entry, State::Unknown, onward.unfollowed,
                                {evidence_line(entry->place, entry->line)});
            if (!onward.start) {
                end(std::move(next));
                continue;
            }
            const std::string text = start_text(*onward.start);
            const bool sector = is_sector(*onward.start);
            next.ladder.set(Stage::Entry, State::Holds,
                            fmt::format("“{}” of {} starts {}{}", entry->title, menu.place, sector ? "the " : "", text),
                            {evidence_line(entry->place, entry->line, {}, entry->title)});
            next.chosen.push_back(entry->title);
            next.entry = nullptr;
            if (const auto* code = std::get_if<SectorStart>(&*onward.start)) {
                next.hops.back() = fmt::format("{}:{}", entry->place, entry->line);
                if (code->place.volume == nullptr) next.disks.push_back(code->place.disk->number);
            }
            edge({menu_node(menu), text, false, false, sector}, entry->title, next.unattended);
            follow(*onward.start, std::move(next));
        }
    }

    /// The entry that somebody takes, by its title or its place in the menu; null: none of these.
    [[nodiscard]] const MenuEntry* chosen_of(const std::vector<const MenuEntry*>& all) const {
        if (at_menu_ == nullptr || at_menu_->choice.empty() || out_.at_menu_taken) return nullptr;
        for (const auto* entry : all)
            if (entry->title == at_menu_->choice || entry->path_text() == at_menu_->choice) return entry;
        return nullptr;
    }

    [[nodiscard]] Onward onward_from(const Start& from, const MenuEntry& entry) const {
        if (entry.kind != EntryKind::Chainload || entry.stop || !entry.unread.empty()) return {};
        // U-Boot starts EFI applications, too.
        if (is_application(from) || is_flat(from)) {
            if (entry.kernel.empty() || !entry.kernel.front().found()) return {};
            const auto& target = entry.kernel.front();
            if (target.volume == nullptr || target.bytes != nullptr)
                return {std::nullopt,
                        fmt::format("“{}” starts an application that is no file, which is not followed", entry.title)};
            return {EfiStart{target.volume, target.real_path, entry.arguments}, {}};
        }
        if (!entry.chain || !entry.chain->code) return {};
        const auto& machine = context_.machine;
        const Disk* disk = machine.disk(entry.chain->code->disk);
        const std::uint64_t lba = entry.chain->code->offset / 512;
        auto volume = disk != nullptr && lba != 0 ? volume_starting_at(machine, disk->number, lba) : nullptr;
        if (disk == nullptr || (lba != 0 && volume == nullptr))
            return {std::nullopt, fmt::format("“{}” starts code from a file, which is not followed", entry.title)};
        const auto* sector = std::get_if<SectorStart>(&from);
        const int first = sector != nullptr ? sector->place.first_drive : disk->number;
        return {SectorStart{{disk, std::move(volume), lba, first, false, 0}, false}, {}};
    }

    static Evidence start_evidence(const Start& start) {
        if (const auto* sector = std::get_if<SectorStart>(&start)) return sector->place.evidence(0, 512);
        return evidence_place(start_text(start));
    }

    Firmware& firmware_;
    Context context_;
    const AtMenu* at_menu_;
    Routes out_;
    std::vector<std::string> path_;
    bool came_back_ = false;  ///< what the firmware started gave control back to it
};

}  // namespace

std::string start_text(const Start& start) {
    struct Text {
        std::string operator()(const SectorStart& sector) const { return sector.place.text(); }
        std::string operator()(const EfiStart& file) const {
            return fmt::format("{}:{}", file.volume->place, file.path);
        }
        std::string operator()(const LinuxStart& kernel) const { return fmt::format("“{}”", kernel.entry->title); }
        std::string operator()(const NtStart& loader) const { return fmt::format("“{}”", loader.entry->title); }
        std::string operator()(const FlatStart& flat) const { return flat.name; }
        std::string operator()(const UnfollowedStart& other) const { return fmt::format("“{}”", other.entry->title); }
    };
    return std::visit(Text{}, start);
}

void collect_leaves(const std::vector<MenuEntry>& entries, std::vector<const MenuEntry*>& out) {
    for (const auto& entry : entries) {
        if (entry.kind == EntryKind::Submenu) collect_leaves(entry.children, out);
        else out.push_back(&entry);
    }
}

const MenuEntry* unattended_entry(const Menu& menu) {
    const MenuEntry* first = menu.unattended();
    if (first == nullptr || first->kernel_loaded) return first;
    for (const int index : menu.fallback) {
        const MenuEntry* candidate = menu.unattended_from(index);
        if (candidate != nullptr && candidate->kernel_loaded) return candidate;
    }
    return first;
}

std::string wanted_by(const Menu& menu, const MenuEntry& entry) {
    if (!menu.timeout && !menu.boots_without_menu) return "a choice";
    if (entry.restricted) return menu.credential;
    return {};
}

std::string menu_node(const Menu& menu) { return fmt::format("{} ({})", menu.loader, menu.place); }

std::string loader_node(const LoaderRun& run, std::string_view place) {
    if (!run.menu.place.empty()) return menu_node(run.menu);
    return fmt::format("{} (from {})", run.name, place);
}

Routes find_routes(Firmware& firmware, const AtMenu* at_menu) { return Walker(firmware, at_menu).run(); }

}  // namespace herberge::walk
