// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <herberge/report.hpp>
#include <herberge/sector.hpp>
#include <herberge/unlock.hpp>

#include "report/evidence_json.hpp"

namespace herberge {

namespace {

using nlohmann::ordered_json;

using report::clean;
using report::finish;
using report::text_or_null;
using report::to_json;

ordered_json stage_or_null(const std::optional<Stage>& stage) {
    return stage ? ordered_json(stage_id(*stage)) : ordered_json(nullptr);
}

ordered_json to_json(const StageState& s) {
    ordered_json out = {{"stage", stage_id(s.stage)}, {"state", state_id(s.state)}, {"text", clean(s.text)}};
    for (const Code code : s.findings) out["findings"].push_back(code_id(code));
    out["evidence"] = to_json(s.evidence);
    return out;
}

ordered_json to_json(const SystemVerdict& s) {
    ordered_json out = {{"name", clean(s.name)},
                        {"kind", system_kind_id(s.kind)},
                        {"place", s.place ? ordered_json(*s.place) : ordered_json(nullptr)},
                        {"starts", starts_id(s.starts)},
                        {"stops_at", stage_or_null(s.stops_at)},
                        {"symptom", text_or_null(s.symptom)}};
    out["entry"] = text_or_null(s.entry);
    out["entry_is_default"] = s.entry_is_default;
    out["waits_for"] = text_or_null(s.waits_for);
    out["route"] = ordered_json::array();
    for (const auto& step : s.route) out["route"].push_back(clean(step));
    out["stages"] = ordered_json::array();
    for (const auto& stage : s.stages) out["stages"].push_back(to_json(stage));
    out["fallbacks"] = ordered_json::array();
    for (const auto& f : s.fallbacks)
        out["fallbacks"].push_back({{"entry", clean(f.entry)},
                                    {"path", f.path},
                                    {"starts", starts_id(f.starts)},
                                    {"stops_at", stage_or_null(f.stops_at)}});
    return out;
}

ordered_json disks_json(const Machine& machine) {
    auto out = ordered_json::array();
    for (const auto& disk : machine.disks) {
        ordered_json one = {
            {"place", fmt::format("d{}", disk.number)}, {"path", clean(disk.path)}, {"size", disk.source->size()}};
        if (const auto* damaged = dynamic_cast<const DamagedSource*>(disk.source.get()); damaged != nullptr) {
            one["unreadable_asked"] = ordered_json::array();
            for (const auto& [offset, length] : damaged->asked())
                one["unreadable_asked"].push_back({{"offset", offset}, {"length", length}});
        }
        out.push_back(std::move(one));
    }
    return out;
}

ordered_json to_json(const FileReference& f) {
    ordered_json out = {
        {"written", clean(f.written)}, {"found", f.found()}, {"place", text_or_null(f.place)}, {"line", f.line}};
    if (f.found()) {
        out["real_path"] = clean(f.real_path);
        out["size"] = f.size;
    } else {
        out["error"] = clean(*f.error);
        out["near_misses"] = ordered_json::array();
        for (const auto& near : f.near_misses) out["near_misses"].push_back(clean(near));
    }
    if (!f.links.empty()) {
        out["links"] = ordered_json::array();
        for (const auto& link : f.links) out["links"].push_back(clean(link));
    }
    return out;
}

ordered_json to_json(const std::vector<FileReference>& files) {
    auto out = ordered_json::array();
    for (const auto& file : files) out.push_back(to_json(file));
    return out;
}

ordered_json to_json(const MenuEntry& e) {
    ordered_json out = {{"title", clean(e.title)}, {"id", text_or_null(e.id)}, {"path", e.path_text()},
                        {"place", clean(e.place)}, {"line", e.line},           {"kind", entry_kind_name(e.kind)}};
    if (e.kind == EntryKind::Submenu) {
        out["default"] = e.default_child;
        out["entries"] = ordered_json::array();
        for (const auto& child : e.children) out["entries"].push_back(to_json(child));
        return out;
    }
    if (!e.unread.empty()) out["unread"] = clean(e.unread);
    out["resolves"] = e.unread.empty() && !e.stop &&
                      std::ranges::all_of(e.ramdisks, [](const FileReference& f) { return f.found(); });
    out["kernel"] = to_json(e.kernel);
    out["ramdisks"] = to_json(e.ramdisks);
    if (!e.devicetree.empty()) out["devicetree"] = to_json(e.devicetree);
    out["arguments"] = clean(e.arguments);
    out["stops_at"] = stage_or_null(e.stop ? std::optional(e.stop->stage) : std::nullopt);
    if (e.stop) out["reason"] = clean(e.stop->text);
    out["messages"] = ordered_json::array();
    for (const auto& m : e.messages)
        out["messages"].push_back({{"text", clean(m.text)}, {"place", clean(m.place)}, {"line", m.line}});
    return out;
}

std::string_view style_name(MenuStyle style) {
    return style == MenuStyle::Hidden ? "hidden" : style == MenuStyle::Countdown ? "countdown" : "menu";
}

ordered_json fields_json(const std::vector<Field>& fields) {
    ordered_json out = ordered_json::array();
    for (const auto& f : fields)
        out.push_back({{"name", f.name},
                       {"offset", f.offset},
                       {"size", f.size},
                       {"value", clean(f.value)},
                       {"meaning", clean(f.meaning)},
                       {"raw", hex(f.raw, "")}});
    return out;
}

}  // namespace

std::string check_json(const Machine& machine, const Verdict& verdict) {
    ordered_json out = {{"schema", "herberge/check/1"}, {"firmware", firmware_id(verdict.firmware)}};
    if (!verdict.board.empty()) out["board"] = verdict.board;
    out["disks"] = disks_json(machine);
    out["systems"] = ordered_json::array();
    for (const auto& system : verdict.systems) out["systems"].push_back(to_json(system));
    out["findings"] = ordered_json::array();
    for (const auto& finding : verdict.findings) out["findings"].push_back(to_json(finding));
    return finish(out);
}

std::string systems_json(const Verdict& verdict, const std::vector<EfiFile>& efi_files) {
    ordered_json out = {
        {"schema", "herberge/systems/1"}, {"systems", ordered_json::array()}, {"graph", ordered_json::array()}};
    auto strings = [](const std::vector<std::string>& list) {
        auto all = ordered_json::array();
        for (const auto& text : list) all.push_back(clean(text));
        return all;
    };
    for (const auto& s : verdict.systems)
        out["systems"].push_back({{"name", clean(s.name)},
                                  {"kind", system_kind_id(s.kind)},
                                  {"version", text_or_null(s.version)},
                                  {"place", s.place ? ordered_json(*s.place) : ordered_json(nullptr)},
                                  {"starts", starts_id(s.starts)},
                                  {"stops_at", stage_or_null(s.stops_at)},
                                  {"starts_unattended", s.entry_is_default},
                                  {"waits_for", text_or_null(s.waits_for)},
                                  {"last_used", s.last_used},
                                  {"named_by", strings(s.named_by)},
                                  {"kernels", strings(s.kernels)},
                                  {"unused_kernels", strings(s.unused_kernels)}});
    for (const auto& e : verdict.graph)
        out["graph"].push_back({{"from", clean(e.from)},
                                {"to", clean(e.to)},
                                {"label", text_or_null(e.label)},
                                {"unattended", e.unattended},
                                {"broken", e.broken}});
    out["efi_applications"] = ordered_json::array();
    for (const auto& f : efi_files)
        out["efi_applications"].push_back({{"place", clean(f.place)},
                                           {"application", efi_application_name(f.application)},
                                           {"version", text_or_null(clean(f.version))},
                                           {"machine", text_or_null(f.machine)},
                                           {"signers", strings(f.signers)},
                                           {"named_by", strings(f.named_by)},
                                           {"problem", text_or_null(clean(f.problem))}});
    return finish(out);
}

namespace {
/// What opens a BitLocker volume, and what of its metadata is damaged.
ordered_json bitlocker_json(const Volume& volume) {
    const auto told = describe_bitlocker(*volume.source);
    ordered_json out = {{"place", clean(volume.place)}, {"problem", nullptr}};
    if (!told) {
        out["problem"] = clean(told.error().text());
        return out;
    }
    out["id"] = told->id;
    out["cipher"] = told->cipher;
    out["encrypted_bytes"] = told->encrypted_bytes;
    out["protectors"] = ordered_json::array();
    for (const auto& one : told->protectors)
        out["protectors"].push_back({{"id", one.id}, {"kind", one.kind}, {"opens_by_itself", one.opens_by_itself}});
    out["damaged_copies"] = ordered_json::array();
    for (const auto& problem : told->damaged_copies) out["damaged_copies"].push_back(clean(problem.text()));
    return out;
}
}  // namespace

std::string layout_json(const Machine& machine) {
    ordered_json out = {{"schema", "herberge/layout/1"}};
    out["disks"] = ordered_json::array();
    for (const auto& disk : machine.disks) {
        ordered_json d = {{"place", fmt::format("d{}", disk.number)},
                          {"path", clean(disk.path)},
                          {"size", disk.source->size()},
                          {"table", disk.table.kind == TableKind::Mbr   ? "mbr"
                                    : disk.table.kind == TableKind::Gpt ? "gpt"
                                                                        : "none"},
                          {"sector_size", disk.table.sector_size},
                          {"disk_signature", fmt::format("{:08x}", disk.table.disk_signature)}};
        if (disk.erase_block != 0) {
            d["erase_block"] = disk.erase_block;
            d["bad_blocks"] = disk.bad_blocks;
        }
        d["partitions"] = ordered_json::array();
        for (const auto& p : disk.table.partitions) {
            ordered_json part = {{"place", fmt::format("d{}p{}", disk.number, p.number)},
                                 {"number", p.number},
                                 {"first_lba", p.first_lba},
                                 {"sectors", p.sectors},
                                 {"size", p.sectors * disk.table.sector_size},
                                 {"type", p.type_guid.empty() ? fmt::format("{:02x}", p.type) : p.type_guid},
                                 {"type_name", p.type_name()},
                                 {"active", p.active},
                                 {"partuuid", p.partuuid}};
            const auto called = partition_names(disk, p);
            part["names"] = {{"linux", called.linux_name},
                             {"grub", called.grub},
                             {"legacy", text_or_null(called.legacy)},
                             {"arc", text_or_null(called.arc)}};
            for (const auto& held : disk.volumes)
                if (const Volume& v = *held; v.partition == p.number) {
                    part["file_system"] = text_or_null(v.info.name());
                    part["label"] = text_or_null(v.info.label);
                    part["uuid"] = text_or_null(v.info.uuid);
                }
            d["partitions"].push_back(std::move(part));
        }
        d["boot_catalogue"] = nullptr;
        if (disk.catalogue) {
            auto images = ordered_json::array();
            for (const auto& image : disk.catalogue->images)
                images.push_back({{"number", image.number},
                                  {"platform", image.platform},
                                  {"bootable", image.bootable},
                                  {"emulation", emulation_name(image.emulation)},
                                  {"offset", image.offset},
                                  {"sectors", image.sectors},
                                  {"segment", image.segment}});
            d["boot_catalogue"] = {
                {"offset", disk.catalogue->offset},
                {"images", std::move(images)},
                {"refused",
                 disk.catalogue->refused ? ordered_json(clean(disk.catalogue->refused->what)) : ordered_json(nullptr)},
                {"passed_over", disk.catalogue->passed_over ? ordered_json(clean(disk.catalogue->passed_over->what))
                                                            : ordered_json(nullptr)}};
        }
        d["gaps"] = ordered_json::array();
        for (const auto& s : stretches(disk.table, disk.source->size()))
            if (s.partition == 0)
                d["gaps"].push_back(
                    {{"first_lba", s.first_lba}, {"sectors", s.sectors}, {"holds", describe_gap(disk, s)}});
        d["findings"] = ordered_json::array();
        for (const auto& f : disk.table.findings) d["findings"].push_back(to_json(f));
        if (const auto raid = bios_raid(disk)) d["findings"].push_back(to_json(*raid));
        out["disks"].push_back(std::move(d));
    }
    out["made"] = ordered_json::array();
    for (const auto& volume : machine.layered) {
        ordered_json made = {{"place", clean(volume->place)},
                             {"kind", node_kind_name(volume->kind)},
                             {"size", volume->source->size()},
                             {"made_of", ordered_json::array()},
                             {"file_system", text_or_null(volume->info.name())},
                             {"label", text_or_null(clean(volume->info.label))},
                             {"uuid", text_or_null(volume->info.uuid)},
                             {"names", {{"linux", ordered_json::array()}, {"grub", ordered_json::array()}}},
                             {"problem", volume->not_assembled ? ordered_json(clean(volume->not_assembled->text()))
                                                               : ordered_json(nullptr)}};
        for (const auto& member : volume->made_of) made["made_of"].push_back(member->place);
        for (const auto& name : volume->names.linux_names) made["names"]["linux"].push_back(clean("/dev/" + name));
        for (const auto& name : volume->names.grub) made["names"]["grub"].push_back(clean(name));
        out["made"].push_back(std::move(made));
    }
    out["encrypted"] = ordered_json::array();
    machine.each_volume(Observer::Analyst, [&](const Volume& volume) {
        if (!volume.info.is(Family::Luks)) return;
        const auto told = describe_luks(*volume.source);
        ordered_json one = {{"place", clean(volume.place)}, {"problem", nullptr}};
        if (!told) one["problem"] = clean(told.error().text());
        if (told) {
            one["version"] = told->version;
            one["uuid"] = clean(told->uuid);
            one["cipher"] = clean(told->cipher);
            one["key_bits"] = told->key_bytes * 8;
            one["sector_size"] = told->sector;
            one["data_offset"] = told->data_offset;
            one["slots"] = ordered_json::array();
            for (const auto& slot : told->slots)
                one["slots"].push_back(
                    {{"number", slot.number},
                     {"derivation", clean(slot.derivation)},
                     {"rounds", slot.rounds},
                     {"memory_kib", slot.memory},
                     {"offset", slot.offset},
                     {"size", slot.size},
                     {"problem", slot.problem ? ordered_json(clean(slot.problem->text())) : ordered_json(nullptr)}});
            one["findings"] = ordered_json::array();
            for (const auto& f : told->findings) one["findings"].push_back(to_json(f));
        }
        out["encrypted"].push_back(std::move(one));
    });
    out["bitlocker"] = ordered_json::array();
    machine.each_volume(Observer::Analyst, [&](const Volume& volume) {
        if (volume.info.format == Format::Bitlocker) out["bitlocker"].push_back(bitlocker_json(volume));
    });
    out["findings"] = ordered_json::array();
    for (const auto& f : machine.layer_findings) out["findings"].push_back(to_json(f));
    return finish(out);
}

std::string entries_json(const std::vector<Menu>& menus, const std::vector<BootOptionState>& options) {
    ordered_json out = {{"schema", "herberge/entries/1"}};
    out["boot_options"] = ordered_json::array();
    for (const auto& o : options)
        out["boot_options"].push_back({{"number", o.option.number},
                                       {"title", clean(o.option.description)},
                                       {"active", o.option.active},
                                       {"device_path", clean(o.option.path.text())},
                                       {"place", text_or_null(clean(o.place))},
                                       {"problem", text_or_null(clean(o.problem))}});
    out["menus"] = ordered_json::array();
    for (const auto& menu : menus) {
        ordered_json m = {{"loader", menu.title()},
                          {"place", clean(menu.place)},
                          {"default", menu.default_entry},
                          {"default_setting", clean(menu.default_setting)},
                          {"default_matches", menu.default_matches},
                          {"fallback", menu.fallback},
                          {"timeout", menu.timeout ? ordered_json(*menu.timeout) : ordered_json(nullptr)},
                          {"style", style_name(menu.style)},
                          {"reveal", text_or_null(menu.reveal)}};
        m["entries"] = ordered_json::array();
        for (const auto& entry : menu.entries) m["entries"].push_back(to_json(entry));
        m["direct"] = ordered_json::array();
        for (const auto& entry : menu.direct) m["direct"].push_back(to_json(entry));
        m["messages"] = ordered_json::array();
        for (const auto& message : menu.messages)
            m["messages"].push_back(
                {{"text", clean(message.text)}, {"place", clean(message.place)}, {"line", message.line}});
        out["menus"].push_back(std::move(m));
    }
    return finish(out);
}

std::string sector_json(const std::string& place, const std::string& kind, const std::vector<Field>& fields) {
    ordered_json out = {{"schema", "herberge/sector/1"}, {"place", place}, {"kind", kind}};
    out["fields"] = fields_json(fields);
    return finish(out);
}

std::string variables_json(const UefiVariables& variables, const std::string& name) {
    ordered_json out = {{"schema", "herberge/variables/1"}};
    out["variables"] = ordered_json::array();
    for (const auto& v : variables.all) {
        if (!name.empty() && v.name != name) continue;
        const auto view = view_variable(v);
        ordered_json one = {{"name", clean(v.name)},
                            {"vendor", v.guid},
                            {"attributes", v.attributes},
                            {"kind", view.kind},
                            {"data", hex(v.data, "")}};
        one["fields"] = fields_json(view.fields);
        out["variables"].push_back(std::move(one));
    }
    return finish(out);
}

std::string files_json(const std::string& place, const std::vector<ListedFile>& files) {
    ordered_json out = {{"schema", "herberge/files/1"}, {"place", clean(place)}};
    out["files"] = ordered_json::array();
    for (const auto& f : files) {
        ordered_json file = {{"name", clean(f.name)},       {"type", file_type_name(f.info.type)},
                             {"size", f.info.size},         {"permissions", fmt::format("{:04o}", f.info.permissions)},
                             {"uid", f.info.uid},           {"gid", f.info.gid},
                             {"modified", f.info.modified}, {"id", f.info.id}};
        if (!f.target.empty()) file["target"] = clean(f.target);
        out["files"].push_back(std::move(file));
    }
    return finish(out);
}

std::string rehearsal_json(const Rehearsal& rehearsal) {
    ordered_json out = {{"schema", "herberge/rehearsal/1"},
                        {"end", rehearsal_end_id(rehearsal.end)},
                        {"end_text", clean(rehearsal.end_text)},
                        {"instructions", rehearsal.instructions},
                        {"reads", rehearsal.reads},
                        {"bytes_read", rehearsal.bytes_read},
                        {"writes", rehearsal.writes},
                        {"memory_touched", rehearsal.memory_touched},
                        {"text", clean(rehearsal.text)}};
    out["screen"] = ordered_json::array();
    for (const auto& line : rehearsal.screen) out["screen"].push_back(clean(line));
    out["events"] = ordered_json::array();
    for (const auto& e : rehearsal.events) {
        ordered_json event = {{"kind", rehearsal_event_id(e.kind)},
                              {"instruction", e.instruction},
                              {"seconds", e.seconds},
                              {"text", clean(e.text)}};
        if (e.range) {
            event["disk"] = e.range->disk;
            event["offset"] = e.range->offset;
            event["length"] = e.range->length;
            event["lies_in"] = clean(e.lies_in);
            event["calls"] = e.count;
        }
        if (e.address != 0) event["address"] = e.address;
        if (e.stage) event["stage"] = stage_id(*e.stage);
        out["events"].push_back(std::move(event));
    }
    return finish(out);
}

std::string findings_markdown() {
    std::string out =
        "# Findings\n\nEvery finding has a stable code. This page is generated from the one table in the code "
        "(`include/herberge/codes.def`); `herberge_make_findings` writes it, and a test compares the two.\n\n"
        "Severity: `breaks` stops the start at its stage, `risk` may, `note` is worth knowing.\n";
    for (const auto stage : all_stages()) {
        out += fmt::format(
            "\n## {}\n\nCompletes when {}.\n\n| code | severity | meaning | on the screen |\n|---|---|---|---|\n",
            stage_id(stage), stage_meaning(stage));
        for (const auto& row : finding_codes()) {
            if (row.stage != stage) continue;
            std::string symptom;
            for (const auto screen : screens_of(row.code)) {
                if (!symptom.empty()) symptom += "<br>*or*<br>";
                for (const char c : screen) symptom += c == '\n' ? "<br>" : std::string(1, c);
            }
            out += fmt::format("| `{}` | {} | {} | {} |\n", row.id, severity_id(row.severity), row.meaning, symptom);
        }
    }
    return out;
}

}  // namespace herberge
