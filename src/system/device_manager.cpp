// SPDX-License-Identifier: MIT
#include "system/device_manager.hpp"

#include <fmt/format.h>

namespace herberge {

namespace {

/// The place of rules that are nowhere, or that an empty file of their name switches off (udev(7)), and which of the
/// two; none: they are there, or it cannot be told.
std::optional<std::pair<std::string, const char*>> without_rules(const FileSystem& fs, const std::string& name) {
    for (const char* folder :
         {"/etc/udev/rules.d", "/usr/local/lib/udev/rules.d", "/usr/lib/udev/rules.d", "/lib/udev/rules.d"}) {
        auto path = fmt::format("{}/{}", folder, name);
        const auto own = resolve(fs, path, {.most_links = 40, .follow_last = false});
        if (!own && own.error().unreadable()) return std::nullopt;
        if (!own) continue;
        const bool link = own->file.type == FileType::Symlink;
        const auto target = link ? fs.link_target(own->file.id) : Result<std::string>();
        const bool empty = link ? target && *target == "/dev/null" : own->file.size == 0;
        return empty ? std::optional(std::pair(std::move(path), "empty")) : std::nullopt;
    }
    return std::pair(fmt::format("/usr/lib/udev/rules.d/{}", name), "not there");
}

}  // namespace

std::optional<NoDevices> no_devices(const Volume& root, const InitChoice& init, const UnitStore& units) {
    const FileSystem& fs = *root.files(Observer::Linux);
    const auto at = [&](const std::string& path) { return fmt::format("{}:{}", root.place, path); };
    for (const char* name : {"systemd-udevd.service", "systemd-udev-trigger.service"})
        if (const auto* unit = units.find(name); unit != nullptr && unit->load == UnitLoad::Masked)
            return NoDevices{fmt::format("{} is masked", name),
                             unit->problem ? unit->problem->evidence : std::vector<Evidence>{}};
    for (const std::string folder : {"/lib/systemd/", "/usr/lib/systemd/"}) {
        if (!resolve(fs, folder + "system/systemd-udevd.service")) continue;
        const auto path = folder + "systemd-udevd";
        if (const auto program = judge_executable(fs, root.place, path, init.processor); !program.runs)
            return NoDevices{fmt::format("{} cannot run ({})", path, program.why), program.evidence};
        break;
    }
    const auto without = [&](const char* rules, const char* what, bool names) -> std::optional<NoDevices> {
        const auto lacking = without_rules(fs, rules);
        if (!lacking) return std::nullopt;
        return NoDevices{fmt::format("udev lacks its rules {}, {}", rules, what),
                         {evidence_place(at(lacking->first), "rules", lacking->second)},
                         names};
    };
    if (!resolve(fs, "/usr/lib/udev/rules.d") && !resolve(fs, "/lib/udev/rules.d")) return std::nullopt;
    if (auto out = without("99-systemd.rules", "which tell systemd of devices", false)) return out;
    return without("60-persistent-storage.rules", "which name volumes by UUID and label", true);
}

}  // namespace herberge
