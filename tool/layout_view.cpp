// SPDX-License-Identifier: MIT
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <ctime>

#include <herberge/flash.hpp>

#include "views.hpp"

namespace tool {

using herberge::EfiApplication;
using herberge::printable;
using herberge::size_text;

namespace {

const herberge::Volume* volume_of(const herberge::Disk& disk, int partition) {
    for (const auto& volume : disk.volumes)
        if (volume->partition == partition) return volume.get();
    return nullptr;
}

/// Widths for a drawing to scale in which nothing vanishes: every stretch gets at least `least` columns.
std::vector<std::size_t> scale(const std::vector<herberge::Stretch>& all, std::size_t room) {
    std::uint64_t total = 0;
    for (const auto& s : all) total += s.sectors;
    std::vector<std::size_t> out;
    std::size_t used = 0;
    for (const auto& s : all) {
        const std::size_t least = s.partition != 0 ? 4 : 1;
        const double share = total == 0 ? 0 : static_cast<double>(s.sectors) / static_cast<double>(total);
        out.push_back(std::max(least, static_cast<std::size_t>(share * static_cast<double>(room))));
        used += out.back();
    }
    while (used > room) {
        auto widest = std::ranges::max_element(out);
        if (*widest <= 4) break;
        --*widest;
        --used;
    }
    if (used < room && !out.empty()) *std::ranges::max_element(out) += room - used;
    return out;
}

void draw(std::string& out, const herberge::Disk& disk, const Terminal& terminal) {
    auto all = herberge::stretches(disk.table, disk.source->size());
    if (all.empty() || all.size() > 24) return;
    const auto widths = scale(all, std::max<std::size_t>(40, terminal.width() - 4 - all.size()));
    std::string top;
    std::string middle;
    std::string below;
    std::string bottom;
    for (std::size_t i = 0; i < all.size(); ++i) {
        const auto& s = all[i];
        std::string bar;
        for (std::size_t j = 0; j < widths[i]; ++j) bar += "─";
        top += (i == 0 ? "┌" : "┬") + bar;
        bottom += (i == 0 ? "└" : "┴") + bar;
        std::string first;
        std::string second;
        if (s.partition != 0) {
            const auto* volume = volume_of(disk, s.partition);
            first = fmt::format(" p{}", s.partition);
            if (volume != nullptr && volume->info.known() && widths[i] >= 4 + first.size() + volume->info.name().size())
                first += " " + volume->info.name();
            second = " " + size_text(s.sectors * disk.table.sector_size);
            if (columns(second) > widths[i]) second.clear();
        } else {
            for (std::size_t j = 0; j < widths[i]; ++j) first += "·";
            second = first;
        }
        const bool active =
            s.partition != 0 && disk.table.find(s.partition) != nullptr && disk.table.find(s.partition)->active;
        middle +=
            "│" + terminal.ink(s.partition == 0 ? Ink::Dim
                               : active         ? Ink::Good
                                                : Ink::Bold,
                               pad(first.substr(0, s.partition != 0 ? std::min(first.size(), widths[i]) : first.size()),
                                   widths[i]));
        below += "│" + terminal.ink(Ink::Dim, pad(second, widths[i]));
    }
    out += "  " + top + "┐\n  " + middle + "│\n  " + below + "│\n  " + bottom + "┘\n";
}

struct Table {
    std::vector<std::vector<std::string>> rows;
    /// Columns two spaces apart; the first row is the head.
    void print(std::string& out, const Terminal& terminal, std::size_t indent) const {
        std::vector<std::size_t> widths;
        for (const auto& row : rows)
            for (std::size_t i = 0; i < row.size(); ++i) {
                if (widths.size() <= i) widths.push_back(0);
                widths[i] = std::max(widths[i], columns(row[i]));
            }
        for (std::size_t r = 0; r < rows.size(); ++r) {
            std::string line(indent, ' ');
            for (std::size_t i = 0; i < rows[r].size(); ++i)
                line += i + 1 < rows[r].size() ? pad(rows[r][i], widths[i] + 2) : rows[r][i];
            line.erase(line.find_last_not_of(' ') + 1);
            out += terminal.ink(r == 0 ? Ink::Dim : Ink::Plain, line) + "\n";
        }
    }
};

std::string date(std::int64_t seconds) {
    const auto time = static_cast<std::time_t>(seconds);
    std::tm parts{};
    if (gmtime_r(&time, &parts) == nullptr) return "?";
    return fmt::format("{:%Y-%m-%d %H:%M}", parts);
}

void print_findings(std::string& out, const std::vector<herberge::Finding>& findings, const Terminal& terminal) {
    for (const auto& finding : findings) {
        const Ink ink = finding.severity == herberge::Severity::Note ? Ink::Dim : Ink::Warn;
        out += fmt::format("  {}{}\n", terminal.ink(ink, pad(std::string(herberge::severity_id(finding.severity)), 8)),
                           printable(finding.text));
        if (!finding.evidence.empty())
            out += "          " + terminal.ink(Ink::Dim, printable(evidence_text(finding.evidence.front()))) + "\n";
    }
}

void print_catalogue(std::string& out, const herberge::BootCatalogue& catalogue, const Terminal& terminal) {
    Table images{{{"boot image", "for", "posing", "at byte", "loaded", "to"}}};
    for (const auto& image : catalogue.images)
        images.rows.push_back({fmt::format("{}{}", image.number, image.bootable ? "" : " (not bootable)"),
                               image.platform == 0xEF ? "UEFI"
                               : image.platform == 0  ? "BIOS"
                                                      : fmt::format("platform {:02x}", image.platform),
                               std::string(herberge::emulation_name(image.emulation)), std::to_string(image.offset),
                               fmt::format("{} sectors", image.sectors),
                               image.platform == 0xEF ? "—" : fmt::format("{:04x}:0000", image.segment)});
    out += "\n";
    images.print(out, terminal, 2);
    const auto passed_over = [&](std::string_view who, const std::optional<herberge::Error>& why) {
        if (why)
            out += fmt::format("  {} takes nothing from it: {}\n", who, terminal.ink(Ink::Bad, printable(why->text())));
    };
    passed_over("a BIOS", catalogue.refused);
    passed_over("UEFI firmware", catalogue.passed_over);
}

/// What each key slot of the encrypted volumes costs to try, and whether it is still whole.
void print_key_slots(std::string& out, const herberge::Machine& machine, const Terminal& terminal) {
    Table slots{{{"encrypted", "header", "cipher", "key slot", "derived by", "cost", "state"}}};
    machine.each_volume(herberge::Observer::Analyst, [&](const herberge::Volume& volume) {
        if (!volume.info.is(herberge::Family::Luks)) return;
        const auto told = herberge::describe_luks(*volume.source);
        if (!told) {
            slots.rows.push_back({volume.place, "—", "—", "—", "—", "—", printable(told.error().what)});
            return;
        }
        const std::string header = fmt::format("LUKS {}{}", told->version, told->findings.empty() ? "" : ", one copy");
        const std::string cipher = fmt::format("{}, {} bits", told->cipher, told->key_bytes * 8);
        if (told->slots.empty()) slots.rows.push_back({volume.place, header, cipher, "—", "—", "—", "none in use"});
        for (const auto& slot : told->slots)
            slots.rows.push_back({volume.place, header, cipher, std::to_string(slot.number), slot.derivation,
                                  slot.memory != 0
                                      ? fmt::format("{} passes over {}", slot.rounds, size_text(slot.memory * 1024))
                                      : fmt::format("{} rounds", slot.rounds),
                                  slot.problem ? printable(slot.problem->what) : "whole"});
    });
    if (slots.rows.size() == 1) return;
    out += "\n";
    slots.print(out, terminal, 0);
}

/// What opens each BitLocker volume.
void print_protectors(std::string& out, const herberge::Machine& machine, const Terminal& terminal) {
    Table table{{{"encrypted", "header", "cipher", "opened by", "protector"}}};
    machine.each_volume(herberge::Observer::Analyst, [&](const herberge::Volume& volume) {
        if (volume.info.format != herberge::Format::Bitlocker) return;
        const auto told = herberge::describe_bitlocker(*volume.source);
        if (!told) {
            table.rows.push_back({volume.place, "—", "—", printable(told.error().what), "—"});
            return;
        }
        const std::string header = told->damaged_copies.empty()
                                       ? "BitLocker"
                                       : fmt::format("BitLocker, {} of 3 copies", 3 - told->damaged_copies.size());
        if (told->protectors.empty()) table.rows.push_back({volume.place, header, told->cipher, "nothing", "—"});
        for (const auto& one : told->protectors)
            table.rows.push_back({volume.place, header, told->cipher, one.kind, one.id});
    });
    if (table.rows.size() == 1) return;
    out += "\n";
    table.print(out, terminal, 0);
}

/// Volumes that layers make, each behind the first of those it is made of, and how deep it lies.
std::vector<std::pair<herberge::VolumeRef, std::size_t>> nested(const herberge::Machine& machine) {
    std::vector<std::pair<herberge::VolumeRef, std::size_t>> out;
    const auto is_made = [&](const herberge::VolumeRef& volume) {
        return std::ranges::find(machine.layered, volume) != machine.layered.end();
    };
    const auto base = [&](const herberge::VolumeRef& volume) {
        const auto found = std::ranges::find_if(volume->made_of, is_made);
        return found != volume->made_of.end() ? *found : nullptr;
    };
    // Layers are made in rounds: what a volume is made of stands before it.
    for (const auto& volume : machine.layered) {
        const auto below = base(volume);
        auto at = std::ranges::find(out, below, &std::pair<herberge::VolumeRef, std::size_t>::first);
        const std::size_t depth = at != out.end() ? at->second + 1 : 0;
        if (at != out.end()) do
                ++at;
            while (at != out.end() && at->second >= depth);
        out.insert(at, {volume, depth});
    }
    return out;
}

/// What layers make of the disks' volumes.
void print_layers(std::string& out, const herberge::Machine& machine, const Terminal& terminal) {
    Table made{{{"place", "size", "what", "made of", "holds", "label"}}};
    Table named{{{"place", "Linux", "GRUB 2", "UUID"}}};
    for (const auto& [volume, depth] : nested(machine)) {
        std::vector<std::string> members;
        for (const auto& member : volume->made_of) members.push_back(member->place);
        const std::string branch = depth == 0 ? "" : std::string((depth - 1) * 2, ' ') + "└ ";
        made.rows.push_back({branch + volume->place, volume->not_assembled ? "—" : size_text(volume->source->size()),
                             std::string(herberge::node_kind_name(volume->kind)),
                             fmt::format("{}", fmt::join(members, ", ")),
                             volume->not_assembled  ? printable(volume->not_assembled->what)
                             : volume->info.known() ? volume->info.name()
                                                    : "?",
                             volume->info.label.empty() ? "—" : volume->info.label});
        const auto& names = volume->names;
        named.rows.push_back({volume->place, names.linux_names.empty() ? "—" : printable(names.linux_names.front()),
                              names.grub.empty() ? "—" : printable(names.grub.front()),
                              volume->info.uuid.empty() ? "—" : volume->info.uuid});
    }
    if (made.rows.size() > 1) {
        out += "\n";
        made.print(out, terminal, 0);
        out += "\n";
        named.print(out, terminal, 0);
    }
    print_key_slots(out, machine, terminal);
    print_protectors(out, machine, terminal);
    if (machine.layer_findings.empty()) return;
    out += "\n";
    print_findings(out, machine.layer_findings, terminal);
}

}  // namespace

std::string layout_text(const herberge::Machine& machine, const Terminal& terminal) {
    std::string out;
    for (const auto& disk : machine.disks) {
        if (!out.empty()) out += "\n";
        const bool gpt = disk.table.kind == herberge::TableKind::Gpt;
        const bool table = disk.table.kind == herberge::TableKind::Mbr;
        out += fmt::format("{}  {}, {}, {}\n", terminal.ink(Ink::Bold, fmt::format("d{}", disk.number)),
                           printable(disk.path), size_text(disk.source->size()),
                           table ? fmt::format("MBR, disk signature {:08x}", disk.table.disk_signature)
                           : gpt ? "GPT, disk GUID " + disk.table.disk_guid
                           : herberge::is_divided_flash(disk) ? std::string("raw flash, divided by --flash-layout")
                                                              : std::string("no partition table"));
        if (disk.problem) {
            out += fmt::format("  {}\n", terminal.ink(Ink::Bad, printable(disk.problem->text())));
            continue;
        }
        if (disk.erase_block != 0) {
            out += fmt::format("  NAND flash, blocks of {}, {} bad", size_text(disk.erase_block),
                               disk.bad_blocks.empty() ? "none" : std::to_string(disk.bad_blocks.size()));
            constexpr std::size_t most = 8;
            for (std::size_t i = 0; i < std::min(most, disk.bad_blocks.size()); ++i)
                out += fmt::format("{} {}", i == 0 ? ": at byte" : ",", disk.bad_blocks[i]);
            out += disk.bad_blocks.size() > most ? " …\n" : "\n";
        }
        const bool bare = disk.table.partitions.empty() && volume_of(disk, 0) != nullptr;
        if (!bare) draw(out, disk, terminal);
        Table partitions{{{"place", "first", "sectors", "size", "type", "holds", "label"}}};
        Table names{{{"place", "Linux", "GRUB 2", "Legacy", "ARC path", "PARTUUID", "UUID"}}};
        for (const auto& p : disk.table.partitions) {
            const auto* volume = volume_of(disk, p.number);
            const std::string place = fmt::format("d{}p{}", disk.number, p.number);
            partitions.rows.push_back(
                {place, std::to_string(p.first_lba), std::to_string(p.sectors),
                 size_text(p.sectors * disk.table.sector_size),
                 gpt ? p.type_name()
                 : herberge::is_divided_flash(disk)
                     ? std::string("—")
                     : fmt::format("{:02x} {}{}", p.type, p.type_name(), p.active ? ", active" : ""),
                 volume != nullptr && volume->info.known() ? volume->info.name() : "?",
                 volume != nullptr && !volume->info.label.empty() ? volume->info.label
                 : !gpt && !p.name.empty()                        ? p.name
                                                                  : "—"});
            const auto called = herberge::partition_names(disk, p);
            names.rows.push_back({place, called.linux_name, called.grub, called.legacy.empty() ? "—" : called.legacy,
                                  called.arc.empty() ? "—" : called.arc, p.partuuid,
                                  volume != nullptr && !volume->info.uuid.empty() ? volume->info.uuid : "—"});
        }
        for (const auto& held : disk.volumes)
            if (const auto& volume = *held; volume.partition == 0) {
                partitions.rows.push_back({volume.place, "0", std::to_string(disk.source->size() / 512),
                                           size_text(disk.source->size()), "whole disk", volume.info.name(),
                                           volume.info.label});
                const auto called = herberge::disk_names(disk);
                names.rows.push_back({volume.place, called.linux_name, called.grub, called.legacy, "—", "—",
                                      volume.info.uuid.empty() ? "—" : volume.info.uuid});
            }
        if (partitions.rows.size() > 1) {
            out += "\n";
            partitions.print(out, terminal, 2);
            out += "\n";
            names.print(out, terminal, 2);
        }
        if (disk.catalogue) print_catalogue(out, *disk.catalogue, terminal);
        Table gaps{{{"gap", "first", "sectors", "size", "holds"}}};
        for (const auto& s : herberge::stretches(disk.table, disk.source->size()))
            if (s.partition == 0 && !bare)
                gaps.rows.push_back({s.first_lba == 0 ? "before the first partition" : "unassigned",
                                     std::to_string(s.first_lba), std::to_string(s.sectors),
                                     size_text(s.sectors * disk.table.sector_size), herberge::describe_gap(disk, s)});
        if (gaps.rows.size() > 1) {
            out += "\n";
            gaps.print(out, terminal, 2);
        }
        auto findings = disk.table.findings;
        if (const auto raid = herberge::bios_raid(disk)) findings.push_back(*raid);
        if (!findings.empty()) {
            out += "\n";
            print_findings(out, findings, terminal);
        }
    }
    print_layers(out, machine, terminal);
    return out;
}

namespace {

std::string fields_text(const std::vector<herberge::Field>& fields, const Terminal& terminal) {
    std::string out;
    Table table{{{"offset", "bytes", "field", "value", ""}}};
    for (const auto& f : fields)
        table.rows.push_back({fmt::format("{:#05x}", f.offset), std::to_string(f.size), f.name, printable(f.value),
                              printable(f.meaning)});
    table.print(out, terminal, 2);
    return out;
}

std::string vendor_text(std::string_view guid) {
    static constexpr std::pair<std::string_view, std::string_view> known[] = {
        {herberge::UefiVariables::global, "UEFI"},
        {herberge::UefiVariables::security, "image security"},
        {"605dab50-e046-4300-abb6-3dd810dd8b23", "shim"},
        {"4a67b082-0a4c-41cf-b6c7-440b29bb8c4f", "systemd-boot"}};
    const auto* found = std::ranges::find(known, guid, &std::pair<std::string_view, std::string_view>::first);
    return found != std::end(known) ? std::string(found->second) : std::string(guid);
}

}  // namespace

std::string variables_text(const herberge::UefiVariables& variables, const std::string& name,
                           const Terminal& terminal) {
    std::string out;
    for (const auto& finding : variables.findings) out += terminal.ink(Ink::Warn, printable(finding.text)) + "\n\n";
    if (name.empty()) {
        Table table{{{"variable", "vendor", "bytes", "holds", "attributes"}}};
        for (const auto& v : variables.all) {
            const auto view = herberge::view_variable(v);
            table.rows.push_back(
                {printable(v.name), vendor_text(v.guid), std::to_string(v.data.size()), view.kind, view.attributes});
        }
        table.print(out, terminal, 0);
        return out;
    }
    for (const auto& v : variables.all) {
        if (v.name != name) continue;
        const auto view = herberge::view_variable(v);
        out += fmt::format("{}  {}, {} bytes  {}\n", terminal.ink(Ink::Bold, printable(v.name)),
                           view.kind.empty() ? "bytes" : view.kind, v.data.size(),
                           terminal.ink(Ink::Dim, fmt::format("{} ({})", vendor_text(v.guid), view.attributes)));
        if (!view.fields.empty()) out += "\n" + fields_text(view.fields, terminal);
        else
            out +=
                fmt::format("  {}\n", herberge::hex(std::span(v.data).first(std::min<std::size_t>(v.data.size(), 64))));
    }
    return out;
}

std::string sector_text(const herberge::SectorView& view, const Terminal& terminal) {
    std::string out = fmt::format("{}  {}\n", terminal.ink(Ink::Bold, view.place), view.kind);
    if (!view.next.empty()) out += fmt::format("  next    {}\n", view.next);
    if (!view.messages.empty()) {
        std::string messages;
        for (const auto& m : view.messages) messages += (messages.empty() ? "“" : "  “") + m + "”";
        bool first = true;
        for (const auto& part : wrap(messages, terminal.width() - 10)) {
            out += (first ? "  text    " : "          ") + terminal.ink(Ink::Blue, part) + "\n";
            first = false;
        }
    }
    if (!view.fields.empty()) out += "\n" + fields_text(view.fields, terminal);
    out += "\n";
    // Which bytes belong to a named field: shown bold; the rest dim.
    std::vector<bool> named(view.bytes.size());
    for (const auto& f : view.fields)
        for (std::uint64_t i = f.offset; i < f.offset + f.size && i < named.size(); ++i) named[i] = true;
    bool skipped = false;
    for (std::size_t row = 0; row < view.bytes.size(); row += 16) {
        const auto part = std::span(view.bytes).subspan(row, std::min<std::size_t>(16, view.bytes.size() - row));
        if (std::ranges::all_of(part, [](auto b) { return b == 0; }) && row != 0 && row + 16 < view.bytes.size()) {
            if (!skipped) out += "  " + terminal.ink(Ink::Dim, "…     zeros") + "\n";
            skipped = true;
            continue;
        }
        skipped = false;
        std::string bytes;
        std::string text;
        for (std::size_t i = 0; i < part.size(); ++i) {
            bytes += terminal.ink(named[row + i] ? Ink::Bold : Ink::Dim, fmt::format("{:02x}", part[i])) +
                     (i == 7 ? "  " : " ");
            text += part[i] >= 0x20 && part[i] < 0x7F ? static_cast<char>(part[i]) : '.';
        }
        out += fmt::format("  {:03x}   {} {}\n", row, bytes, text);
    }
    return out;
}

std::string files_text(const std::string& place, const std::vector<herberge::ListedFile>& files,
                       const Terminal& terminal) {
    std::string out = terminal.ink(Ink::Bold, printable(place)) + "\n";
    Table table{{{"kind", "mode", "owner", "bytes", "changed (UTC)", "name"}}};
    for (const auto& f : files)
        table.rows.push_back({std::string(herberge::file_type_name(f.info.type)),
                              fmt::format("{:04o}", f.info.permissions), fmt::format("{}:{}", f.info.uid, f.info.gid),
                              std::to_string(f.info.size), date(f.info.modified),
                              printable(f.name) + (f.target.empty() ? "" : " -> " + printable(f.target))});
    table.print(out, terminal, 2);
    return out;
}

namespace {

std::string_view why_not_shown(const herberge::Menu& menu) {
    switch (menu.style) {
        case herberge::MenuStyle::Hidden: return "the menu stays hidden";
        case herberge::MenuStyle::Countdown: return "a countdown instead of the menu";
        case herberge::MenuStyle::Menu: break;
    }
    return menu.timeout == 0 ? "the menu is not shown" : "the menu is shown";
}

void one_file(std::string& out, std::string_view what, const herberge::FileReference& f, const Terminal& terminal,
              std::size_t indent) {
    const std::string lead(indent, ' ');
    if (f.found()) {
        out += fmt::format("{}{}{} ({})\n", lead, pad(std::string(what), 10), printable(f.place), size_text(f.size));
        for (const auto& link : f.links)
            out += fmt::format("{}{}{}\n", lead, pad("", 10), terminal.ink(Ink::Dim, "through " + printable(link)));
        return;
    }
    out += fmt::format("{}{}{}  {}\n", lead, pad(std::string(what), 10), printable(f.written),
                       terminal.ink(Ink::Bad, "error: " + printable(*f.error)));
    for (const auto& near : f.near_misses)
        out += fmt::format("{}{}{}\n", lead, pad("", 10), terminal.ink(Ink::Warn, "but there is " + printable(near)));
}

void one_entry(std::string& out, const herberge::MenuEntry& e, const Terminal& terminal, bool is_default,
               std::size_t indent) {
    const std::string lead(indent, ' ');
    const bool files = std::ranges::all_of(e.ramdisks, [](const auto& f) { return f.found(); });
    const bool submenu = e.kind == herberge::EntryKind::Submenu;
    std::string state;
    if (!submenu)
        state = e.stop   ? terminal.ink(Ink::Bad, "does not resolve")
                : !files ? terminal.ink(Ink::Warn, "resolves without its RAM disk")
                         : terminal.ink(Ink::Good, "resolves");
    out += fmt::format("{}{} {}  {}  {}{}\n", lead, is_default ? terminal.ink(Ink::Good, "▸") : " ",
                       pad(e.path_text(), 4), terminal.ink(Ink::Bold, printable(e.title)), state,
                       is_default ? terminal.ink(Ink::Dim, "  (default)") : "");
    const std::string place = e.line > 0 ? fmt::format("{}:{}", e.place, e.line) : e.place;
    out += fmt::format("{}{}{}\n", std::string(indent + 8, ' '),
                       pad(submenu ? "submenu" : std::string(herberge::entry_kind_name(e.kind)), 10),
                       terminal.ink(Ink::Dim, printable(place)));
    if (submenu) {
        for (const auto& child : e.children)
            one_entry(out, child, terminal, is_default && child.index == e.default_child, indent + 6);
        return;
    }
    for (const auto& f : e.kernel) one_file(out, "kernel", f, terminal, indent + 8);
    for (const auto& f : e.ramdisks) one_file(out, "RAM disk", f, terminal, indent + 8);
    for (const auto& f : e.devicetree) one_file(out, "dev. tree", f, terminal, indent + 8);
    if (!e.arguments.empty())
        out += fmt::format("{}{}{}\n", std::string(indent + 8, ' '), pad("arguments", 10), printable(e.arguments));
    if (e.chain)
        out += fmt::format("{}{}{}\n", std::string(indent + 8, ' '), pad("chains to", 10), printable(e.chain->place));
    const bool told = std::ranges::any_of(e.kernel, [](const auto& f) { return !f.found(); });
    if (e.stop && !told)
        out += fmt::format("{}{}{}\n", std::string(indent + 8, ' '), pad("but", 10),
                           terminal.ink(Ink::Bad, printable(e.stop->text)));
}

}  // namespace

std::string boot_options_text(const std::vector<herberge::BootOptionState>& options, const Terminal& terminal) {
    std::string out = terminal.ink(Ink::Bold, "firmware") + "  boot options, in the order in which it tries them\n\n";
    for (const auto& o : options) {
        const bool works = o.problem.empty() && o.option.active;
        out += fmt::format("  Boot{:04X}  {}  {}\n", o.option.number,
                           terminal.ink(Ink::Bold, printable(o.option.description)),
                           works              ? terminal.ink(Ink::Good, "resolves")
                           : !o.option.active ? terminal.ink(Ink::Dim, "not active")
                                              : terminal.ink(Ink::Bad, "does not resolve"));
        out += fmt::format("            path      {}\n", terminal.ink(Ink::Dim, printable(o.option.path.text())));
        const auto kind = herberge::efi_application_name(o.application);
        if (!o.place.empty())
            out += fmt::format("            file      {}{}\n", printable(o.place),
                               o.application == EfiApplication::Unknown ? std::string{} : fmt::format(" ({})", kind));
        if (const auto text = herberge::load_option_text(o.option.optional_data); !text.empty())
            out += fmt::format("            hands on  “{}”\n", printable(text));
        if (!o.problem.empty())
            out += fmt::format("            but       {}\n", terminal.ink(Ink::Bad, printable(o.problem)));
    }
    if (options.empty()) out += "  none\n";
    return out;
}

std::string secure_boot_text(const herberge::UefiVariables& variables, const Terminal& terminal) {
    const auto policy = herberge::secure_boot_policy(variables, herberge::SecureBoot::Auto);
    std::string out = "\n  " + policy.why + "\n";
    const auto list = [&](std::string_view name, std::string_view what, const herberge::SignatureDatabase& database) {
        const std::size_t digests = database.sha256.size() + database.other_digests.size();
        if (database.empty() && database.damaged == 0) return;
        out += fmt::format("  {}  {}: {} certificate{}, {} digest{}{}\n", terminal.ink(Ink::Bold, std::string(name)),
                           what, database.certificates.size(), database.certificates.size() == 1 ? "" : "s", digests,
                           digests == 1 ? "" : "s",
                           database.damaged == 0
                               ? std::string()
                               : terminal.ink(Ink::Warn, fmt::format(", {} damaged list", database.damaged)));
        for (const auto& certificate : herberge::database_certificates(database)) {
            out += fmt::format("            {}\n", certificate.subject.empty()
                                                       ? terminal.ink(Ink::Warn, "a certificate that cannot be read")
                                                       : printable(certificate.subject));
            if (!certificate.subject.empty())
                out +=
                    terminal.ink(Ink::Dim, fmt::format("              by {}, {} to {}", printable(certificate.issuer),
                                                       certificate.not_before, certificate.not_after)) +
                    "\n";
            out += terminal.ink(Ink::Dim, fmt::format("              SHA-256 {}", certificate.sha256)) + "\n";
        }
    };
    list("db", "may start", policy.trust.allowed);
    list("dbx", "may not start", policy.trust.denied);
    for (const auto& one : policy.trust.denied.revoked)
        out += fmt::format("            certificate with {} {} of its signed part: {}\n", one.algorithm,
                           terminal.ink(Ink::Dim, one.digest),
                           one.from ? fmt::format("what it signed after {}", herberge::utc_text(*one.from))
                                    : std::string("whatever it signed"));
    herberge::SignatureDatabase authorities;
    authorities.certificates = policy.trust.time_authorities;
    list("dbt", "may witness times", authorities);
    return out;
}

std::string entries_text(const std::vector<herberge::Menu>& menus, const Terminal& terminal) {
    std::string out;
    for (const auto& menu : menus) {
        if (!out.empty()) out += "\n";
        out += fmt::format("{}  {}\n", terminal.ink(Ink::Bold, printable(menu.place)), menu.title());
        if (menu.boots_without_menu && menu.entries.empty()) {
            out += "  has no menu: its commands themselves start\n\n";
            for (const auto& entry : menu.direct) one_entry(out, entry, terminal, true, 0);
            continue;
        }
        const std::string wait = menu.timeout ? fmt::format("{} s", *menu.timeout) : "for ever, until a key is pressed";
        out += fmt::format("  waits {}; {}", wait, why_not_shown(menu));
        if (!menu.reveal.empty()) out += fmt::format(" ({} shows it)", menu.reveal);
        out += "\n";
        out += fmt::format(
            "  default {}{}\n",
            menu.default_setting.empty() ? "not set: the first entry" : "“" + printable(menu.default_setting) + "”",
            menu.default_matches ? "" : terminal.ink(Ink::Warn, ", which names no entry: the first one is used"));
        for (const auto& message : menu.messages)
            out += "  " +
                   terminal.ink(Ink::Warn, fmt::format("{}:{}  {}", printable(message.place), message.line,
                                                       printable(message.text))) +
                   "\n";
        out += "\n";
        for (const auto& entry : menu.entries) one_entry(out, entry, terminal, entry.index == menu.default_entry, 0);
        if (menu.entries.empty()) out += "  no entries\n";
    }
    if (menus.empty()) out = "no loader's configuration was found\n";
    return out;
}

}  // namespace tool
