// SPDX-License-Identifier: MIT
#include "report/report_texts.hpp"

#include <herberge/flash.hpp>
#include <herberge/sentences.hpp>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

namespace herberge::report {

std::string machine_line(const BootReport& report) {
    std::string out;
    for (const auto& disk : report.machine.disks)
        out += fmt::format("{}d{} {} ({})", out.empty() ? "" : ", ", disk.number, disk.path,
                           size_text(disk.source->size()));
    return fmt::format("{}, started by {}", out, firmware_words(report.verdict));
}

const StageState* deciding(const SystemVerdict& system) {
    if (system.stops_at) return &system.at(*system.stops_at);
    if (system.starts != Starts::Unknown) return nullptr;
    const auto found = std::ranges::find(system.stages, State::Unknown, &StageState::state);
    return found == system.stages.end() ? nullptr : &*found;
}

const Mending* mending_of(const BootReport& report, const SystemVerdict& system) {
    if (!report.mendings || system.starts == Starts::Yes) return nullptr;
    const auto found = std::ranges::find_if(
        *report.mendings, [&](const Mending& one) { return one.name == system.name && one.place == system.place; });
    return found == report.mendings->end() ? nullptr : &*found;
}

std::string_view state_words(State state) {
    switch (state) {
        case State::Holds: return "holds";
        case State::Breaks: return "breaks";
        case State::Doubtful: return "doubtful";
        case State::Unknown: return "unknown";
        case State::NotReached: return "not reached";
        case State::NotNeeded: return "not needed";
    }
    return "";
}

std::string patch_size_sentence(const Patch& patch) {
    if (patch.empty()) return "no byte of a disk changes";
    return fmt::format("{} byte{} in {} place{} change", patch.size(), patch.size() == 1 ? "" : "s",
                       patch.changes.size(), patch.changes.size() == 1 ? "" : "s");
}

std::string disk_sentence(const Disk& disk) {
    const auto& table = disk.table;
    const auto size = size_text(disk.source->size());
    switch (table.kind) {
        case TableKind::Mbr: return fmt::format("{}, MBR, disk signature {:08x}", size, table.disk_signature);
        case TableKind::Gpt: return fmt::format("{}, GPT {}", size, table.disk_guid);
        case TableKind::None: break;
    }
    if (is_divided_flash(disk)) return fmt::format("{}, raw flash, divided by words", size);
    return fmt::format("{}, no partition table{}", size, disk.catalogue ? ", a boot catalogue" : "");
}

Row partition_head() { return {"Partition", "First sector", "Size", "Type", "Holds", "Label", "UUID", "Names"}; }

std::vector<Row> partition_rows(const Disk& disk) {
    std::vector<Row> out;
    for (const auto& part : disk.table.partitions) {
        const auto volume =
            std::ranges::find_if(disk.volumes, [&](const VolumeRef& one) { return one->partition == part.number; });
        const VolumeInfo* info = volume == disk.volumes.end() ? nullptr : &(*volume)->info;
        const auto names = partition_names(disk, part);
        out.push_back({fmt::format("d{}p{}{}", disk.number, part.number, part.active ? ", active" : ""),
                       std::to_string(part.first_lba), size_text(part.sectors * disk.table.sector_size),
                       is_divided_flash(disk)   ? std::string("—")
                       : part.type_guid.empty() ? fmt::format("{:02x} {}", part.type, part.type_name())
                                                : part.type_name(),
                       info != nullptr ? std::string(info->name()) : std::string{},
                       info != nullptr && !info->label.empty() ? info->label : part.name,
                       info != nullptr ? info->uuid : std::string{},
                       fmt::format("{}, ({})", names.linux_name, names.grub)});
    }
    return out;
}

Row layered_head() { return {"Volume", "Made of", "Size", "Holds", "Label", "UUID"}; }

std::vector<Row> layered_rows(const Machine& machine) {
    std::vector<Row> out;
    for (const auto& volume : machine.layered) {
        std::vector<std::string> members;
        for (const auto& one : volume->made_of) members.push_back(one->place);
        out.push_back({volume->place, fmt::format("{}", fmt::join(members, ", ")),
                       volume->source != nullptr ? size_text(volume->source->size()) : std::string{},
                       volume->not_assembled ? volume->not_assembled->text() : std::string(volume->info.name()),
                       volume->info.label, volume->info.uuid});
    }
    return out;
}

namespace {
void add_entries(const Menu& menu, const std::vector<MenuEntry>& entries, const MenuEntry* unattended,
                 std::vector<Row>& out) {
    for (const auto& entry : entries) {
        if (entry.kind == EntryKind::Submenu) {
            add_entries(menu, entry.children, unattended, out);
            continue;
        }
        std::string starts =
            entry.kernel.empty() ? std::string(entry_kind_name(entry.kind)) : entry.kernel.front().place;
        if (entry.chain) starts = entry.chain->place;
        if (starts.empty() && !entry.kernel.empty()) starts = entry.kernel.front().written;
        out.push_back({entry.path_text(), entry.title + (&entry == unattended ? " (by itself)" : ""), std::move(starts),
                       entry.stop             ? entry.stop->text
                       : entry.unread.empty() ? "resolves"
                                              : "cannot be told: " + entry.unread});
    }
}
}  // namespace

Row option_head() { return {"Option", "Title", "Starts", "State"}; }

std::vector<Row> option_rows(const BootReport& report) {
    std::vector<Row> out;
    for (const auto& one : report.boot_options)
        out.push_back({fmt::format("Boot{:04X}", one.option.number), one.option.description,
                       one.place.empty() ? one.option.path.text() : one.place,
                       !one.option.active    ? "not active"
                       : one.problem.empty() ? "resolves"
                                             : one.problem});
    return out;
}

Row entry_head() { return {"Entry", "Title", "Starts", "State"}; }

std::vector<Row> entry_rows(const Menu& menu) {
    std::vector<Row> out;
    add_entries(menu, menu.entries, menu.unattended(), out);
    return out;
}

std::vector<std::pair<std::string, std::string>> origin_facts(const ReportOrigin& origin) {
    std::vector<std::pair<std::string, std::string>> out{
        {"Made by", origin.made_by},
        {"Made at", utc_text(origin.made_at)},
        {"Took", fmt::format("{:.2f} s", origin.seconds)},
    };
    if (!origin.options.empty()) out.emplace_back("Options", fmt::format("{}", fmt::join(origin.options, " ")));
    return out;
}

Row image_head() { return {"Image", "Bytes", "Last changed", "SHA-256"}; }

std::vector<Row> image_rows(const ReportOrigin& origin) {
    std::vector<Row> out;
    for (const auto& image : origin.images)
        out.push_back({image.path, std::to_string(image.size),
                       image.modified != 0 ? utc_text(image.modified) : std::string("unknown"),
                       image.sha256.empty() ? std::string("not asked for") : image.sha256});
    return out;
}

}  // namespace herberge::report
