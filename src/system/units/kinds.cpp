// SPDX-License-Identifier: MIT
// What each kind of unit is tied to without a word in its file: implicit and default dependencies (systemd.service(5)
// and its kin; core/service.c, core/mount.c … of systemd 252).
#include <fmt/format.h>
#include <algorithm>

#include "system/units/generators.hpp"
#include "system/units/names.hpp"
#include "system/units/store.hpp"

namespace herberge {

using units::escape_path;
using units::is_device_path;
using units::parent_of;
using units::parts_of;

namespace {

Evidence rule(std::string text) { return evidence_place(std::move(text)); }

bool has_option(std::string_view options, std::string_view wanted) {
    while (!options.empty()) {
        const auto end = std::min(options.find(','), options.size());
        const auto one = options.substr(0, end);
        if (one == wanted || (one.starts_with(wanted) && one.size() > wanted.size() && one[wanted.size()] == '='))
            return true;
        options.remove_prefix(std::min(end + 1, options.size()));
    }
    return false;
}

/// Those that stay mounted the whole time (mount_is_extrinsic).
bool stays(std::string_view where) {
    static constexpr std::string_view paths[] = {"/",    "/etc", "/usr",   "/etc/machine-id", "/run/initramfs", "/proc",
                                                 "/sys", "/dev", "/proc/", "/sys/",           "/dev/"};
    if (std::ranges::find(paths, where) != std::end(paths)) return true;
    return std::ranges::any_of(std::initializer_list<std::string_view>{"/run/initramfs/", "/proc/", "/sys/", "/dev/"},
                               [&](std::string_view one) { return where.starts_with(one); });
}

/// ExecStart= without the signs before its program.
std::string_view program_of(std::string_view line) {
    const auto from = line.find_first_not_of("@-:+!");
    return from == std::string_view::npos ? std::string_view{} : line.substr(from);
}

}  // namespace

void UnitStore::Impl::needs_mounts_for(Unit& unit, const std::string& path) {
    if (!path.starts_with('/') || path.find("/../") != std::string::npos) return;
    const auto tidy = units::tidy_path(path);
    if (!mounts_for_[unit.name].insert(tidy).second) return;
    // Mounts on the way are loaded where there are any.
    for (std::string prefix = tidy;; prefix = parent_of(prefix)) {
        const auto name = UnitStore::name_of_path(prefix, ".mount");
        if (!files_.find(name).path.empty()) intern(name);
        if (prefix == "/") break;
    }
}

void UnitStore::Impl::at_shutdown(Unit& unit, std::string_view target) {
    tie_both(unit, UnitTie::Conflicts, UnitTie::Before, std::string(target), rule("default dependencies"));
}

void UnitStore::Impl::needs_device(Unit& unit, const std::string& what, UnitTie kind) {
    if (!is_device_path(what)) return;
    tie_both(unit, kind, UnitTie::After, escape_path(what) + ".device", rule("the device that it names"));
}

void UnitStore::Impl::slice_of(Unit& unit) {
    const auto said = rule("every unit with processes lies in a slice");
    if (unit.type() == ".slice") {
        if (unit.name == "-.slice") return;
        const auto stem = unit.name.substr(0, unit.name.rfind('.'));
        const auto dash = stem.rfind('-');
        tie_both(unit, UnitTie::Requires, UnitTie::After,
                 dash == std::string::npos ? "-.slice" : stem.substr(0, dash) + ".slice", said);
        return;
    }
    static constexpr std::string_view section[][2] = {
        {".service", "Service"}, {".socket", "Socket"}, {".mount", "Mount"}, {".swap", "Swap"}, {".scope", "Scope"}};
    for (const auto& [type, name] : section) {
        if (unit.type() != type) continue;
        if (unit.name == "-.mount" || unit.name == "init.scope") {
            tie_both(unit, UnitTie::Requires, UnitTie::After, "-.slice", said);
            return;
        }
        // Mounts that the system itself needs lie outside of all slices.
        if (type == ".mount" && stays(units::unescape_path(unit.name.substr(0, unit.name.size() - type.size())))) {
            tie_both(unit, UnitTie::Requires, UnitTie::After, "-.slice", said);
            return;
        }
        auto slice = unit.value(name, "Slice");
        if (slice) slice = expanded(unit, *slice);
        if (!slice) {
            const auto parts = parts_of(unit.name);
            slice = parts->is_instance() ? "system-" + units::escape(parts->prefix) + ".slice"
                                         : std::string("system.slice");
        }
        tie_both(unit, UnitTie::Requires, UnitTie::After, *slice, said);
    }
}

/// core/unit.c, unit_add_exec_dependencies.
void UnitStore::Impl::exec_context(Unit& unit, std::string_view section) {
    const auto path = [&](std::string_view key) {
        const auto text = unit.value(section, key);
        if (!text) return;
        // Behind a dash it may be missing.
        const auto value = text->starts_with('-') ? std::optional<std::string>{} : expanded(unit, *text);
        if (value) needs_mounts_for(unit, *value);
    };
    path("WorkingDirectory");
    path("RootDirectory");
    path("RootImage");
    const std::pair<std::string_view, std::string_view> folders[] = {{"RuntimeDirectory", "/run"},
                                                                     {"StateDirectory", "/var/lib"},
                                                                     {"CacheDirectory", "/var/cache"},
                                                                     {"LogsDirectory", "/var/log"},
                                                                     {"ConfigurationDirectory", "/etc"}};
    for (const auto& [key, below] : folders)
        for (const auto* setting : unit.values(section, key))
            for (const auto& word : units::quoted_words(setting->value).value_or(std::vector<std::string>{}))
                if (const auto name = expanded(unit, word.substr(0, word.find(':'))))
                    needs_mounts_for(unit, fmt::format("{}/{}", below, *name));
    if (unit.is_on(section, "PrivateTmp", false) || unit.is_on(section, "DynamicUser", false)) {
        tie_both(unit, UnitTie::After, UnitTie::Wants, "tmp.mount", rule("PrivateTmp="));
        needs_mounts_for(unit, "/var/tmp");
        tie(unit, UnitTie::After, "systemd-tmpfiles-setup.service", rule("PrivateTmp="));
    }
    // Folders below /var are written to: the root must be writable by then.
    for (const char* key : {"StateDirectory", "CacheDirectory", "LogsDirectory"})
        if (unit.value(section, key)) tie(unit, UnitTie::After, "systemd-remount-fs.service", rule(key));
    if (unit.value(section, "RootImage")) tie(unit, UnitTie::After, "systemd-udevd.service", rule("RootImage="));
    const auto to_journal = [](std::string_view where) {
        return where.starts_with("journal") || where.starts_with("syslog") || where.starts_with("kmsg");
    };
    const auto input = unit.value(section, "StandardInput").value_or("null");
    // Without a word, output goes to the journal; where the input is a terminal or a socket, it follows that.
    const auto usual = input.starts_with("tty") || input == "socket" ? std::string("inherit") : std::string("journal");
    const auto output = unit.value(section, "StandardOutput").value_or(usual);
    const auto errors = unit.value(section, "StandardError").value_or("inherit");
    if (to_journal(output) || to_journal(errors) || unit.value(section, "LogNamespace"))
        tie(unit, UnitTie::After, "systemd-journald.socket", rule("its output goes to the journal"));
}

/// Commands that cannot be parsed make the whole file refused; those that may fail are passed over.
bool UnitStore::Impl::parse_commands(Unit& unit, std::string_view section) {
    for (auto& setting : unit.settings) {
        if (setting.section != section || !setting.key.starts_with("Exec") || setting.value.empty()) continue;
        if (setting.key == "ExecSearchPath" || setting.key == "ExecPaths") continue;
        const std::string_view rest = setting.value;
        const auto signs = rest.substr(0, rest.find_first_not_of("@-:+!"));
        const bool ignored = signs.find('-') != std::string_view::npos;
        const auto words = units::quoted_words(program_of(rest));
        const auto program = words && !words->empty() ? expanded(unit, words->front()) : std::optional<std::string>{};
        const bool plain = program && program->find('/') == std::string::npos && *program != "." && *program != "..";
        if (words && (words->empty() || !program || program->starts_with('/') || plain) && !words->empty()) continue;
        if (!ignored) {
            refuse(unit, UnitLoad::BadSetting,
                   fmt::format("systemd refuses {}: {}", unit.name,
                               program ? fmt::format("{} is neither a full path nor a plain name", printable(*program))
                                       : std::string("it has a command without a program")),
                   said_by(setting));
            return false;
        }
        unit.notes.push_back(fmt::format("{}, line {}: the command is passed over", setting.place, setting.line));
        setting.key = "(passed over)";
    }
    return true;
}

/// service_verify
void UnitStore::Impl::verify_service(Unit& unit) {
    const auto starts = unit.values("Service", "ExecStart");
    const auto type = unit.value("Service", "Type");
    const auto said = [&](std::string expected) {
        return starts.empty() ? evidence_place(files_.place(unit.fragment), std::move(expected), "absent")
                              : said_by(*starts.front());
    };
    const auto no = [&](const std::string& why, Evidence evidence) {
        refuse(unit, UnitLoad::BadSetting, fmt::format("systemd refuses {}: {}", unit.name, why), std::move(evidence));
    };
    const bool ends = unit.value("Unit", "SuccessAction").has_value();
    if (starts.empty() && unit.values("Service", "ExecStop").empty() && !ends)
        return no("it has no ExecStart=, ExecStop= or SuccessAction=", said("ExecStart="));
    const bool once = type == "oneshot" || (!type && starts.empty());
    if (!once && starts.empty())
        return no("it has no ExecStart=, which only Type=oneshot may lack", said("ExecStart="));
    if (starts.empty() && !ends && !unit.is_on("Service", "RemainAfterExit", false))
        return no("it has no ExecStart= and no RemainAfterExit=yes", said("ExecStart="));
    if (!once && starts.size() > 1)
        return no("it has more than one ExecStart=, which only Type=oneshot may have", said_by(*starts.back()));
    if (type == "dbus" && !unit.value("Service", "BusName"))
        return no("it is of Type=dbus and has no BusName=", said("BusName="));
    const auto again = unit.value("Service", "Restart");
    if (once && (again == "always" || again == "on-success"))
        return no("Type=oneshot does not go with Restart=always or on-success", said("Restart=no"));
}

void UnitStore::Impl::service(Unit& unit) {
    if (!parse_commands(unit, "Service")) return;
    exec_context(unit, "Service");
    if (unit.value("Service", "BusName") && unit.is_on("Unit", "DefaultDependencies", true))
        tie_both(unit, UnitTie::After, UnitTie::Requires, "dbus.socket", rule("it takes a name on the bus"));
    for (const auto* setting : unit.values("Service", "Sockets"))
        for (const auto& word : units::quoted_words(setting->value).value_or(std::vector<std::string>{}))
            if (const auto name = expanded(unit, word)) {
                tie_both(unit, UnitTie::Wants, UnitTie::After, *name, said_by(*setting));
                tie(intern(*name), UnitTie::Triggers, unit.name, said_by(*setting));
            }
    if (unit.is_on("Unit", "DefaultDependencies", true)) {
        const auto said = rule("default dependencies");
        tie_both(unit, UnitTie::Requires, UnitTie::After, "sysinit.target", said);
        tie(unit, UnitTie::After, "basic.target", said);
        at_shutdown(unit, "shutdown.target");
    }
    verify_service(unit);
}

/// What sockets, timers and paths are there for: another unit, of their own name where `key` says no other.
void UnitStore::Impl::starts_another(Unit& unit, std::string_view section, std::string_view key) {
    auto name = unit.value(section, key);
    if (name) name = expanded(unit, *name);
    tie_both(unit, UnitTie::Before, UnitTie::Triggers,
             name ? *name : unit.name.substr(0, unit.name.rfind('.')) + ".service", rule("what it starts"));
}

/// Default dependencies of what stands ready before services start; false: it has none.
bool UnitStore::Impl::starts_early(Unit& unit, std::string_view before) {
    if (!unit.is_on("Unit", "DefaultDependencies", true)) return false;
    const auto said = rule("default dependencies");
    tie(unit, UnitTie::Before, std::string(before), said);
    tie_both(unit, UnitTie::Requires, UnitTie::After, "sysinit.target", said);
    at_shutdown(unit, "shutdown.target");
    return true;
}

void UnitStore::Impl::socket(Unit& unit) {
    static constexpr std::string_view listens[] = {"ListenStream",       "ListenDatagram",   "ListenSequentialPacket",
                                                   "ListenFIFO",         "ListenSpecial",    "ListenNetlink",
                                                   "ListenMessageQueue", "ListenUSBFunction"};
    bool any = false;
    for (const auto& key : listens)
        for (const auto* setting : unit.values("Socket", key)) {
            any = true;
            if (const auto value = expanded(unit, setting->value); value && value->starts_with('/'))
                needs_mounts_for(unit, *value);
        }
    for (const char* key : {"ExecStartPre", "ExecStartPost", "ExecStopPre", "ExecStopPost"})
        if (unit.value("Socket", key)) {
            exec_context(unit, "Socket");
            break;
        }
    if (!unit.is_on("Socket", "Accept", false)) starts_another(unit, "Socket", "Service");
    if (const auto device = unit.value("Socket", "BindToDevice"))
        needs_device(unit, "/sys/subsystem/net/devices/" + *device, UnitTie::BindsTo);
    starts_early(unit, "sockets.target");
    if (!any)
        refuse(unit, UnitLoad::BadSetting, fmt::format("systemd refuses {}: it listens on nothing", unit.name),
               evidence_place(files_.place(unit.fragment), "Listen…=", "absent"));
}

void UnitStore::Impl::mount(Unit& unit) {
    if (unit.fragment.empty()) return;  // "/", which the kernel or the RAM disk mounted
    const auto where = expanded(unit, unit.value("Mount", "Where").value_or("")).value_or("");
    const auto what = expanded(unit, unit.value("Mount", "What").value_or("")).value_or("");
    const auto type = unit.value("Mount", "Type").value_or("");
    const auto options = expanded(unit, unit.value("Mount", "Options").value_or("")).value_or("");
    if (where != "/") {
        exec_context(unit, "Mount");
        needs_mounts_for(unit, parent_of(where));
    }
    const bool bound = has_option(options, "bind") || has_option(options, "rbind") || type == "bind";
    if (what.starts_with('/') && (bound || !is_device_path(what) || has_option(options, "loop")))
        needs_mounts_for(unit, what);
    if (!bound && is_device_path(what) && where != "/") {
        needs_device(unit, what, has_option(options, "x-systemd.device-bound") ? UnitTie::BindsTo : UnitTie::Requires);
        tie(unit, UnitTie::After, fmt::format("blockdev@{}.target", escape_path(what)), rule("its device"));
    }
    if (unit.is_on("Unit", "DefaultDependencies", true) && !stays(where)) {
        const auto said = rule("default dependencies");
        const bool network = units::is_network_type(type) || has_option(options, "_netdev");
        if (!has_option(options, "nofail"))
            tie(unit, UnitTie::Before, network ? "remote-fs.target" : "local-fs.target", said);
        tie(unit, UnitTie::After, network ? "remote-fs-pre.target" : "local-fs-pre.target", said);
        if (network) {
            tie_both(unit, UnitTie::Wants, UnitTie::After, "network-online.target", said);
            tie(unit, UnitTie::After, "network.target", said);
        }
        at_shutdown(unit, "umount.target");
        if (type == "tmpfs") tie(unit, UnitTie::After, "swap.target", said);
    }
    if (where.empty() || UnitStore::name_of_path(where, ".mount") != unit.name)
        return refuse(unit, UnitLoad::BadSetting,
                      fmt::format("systemd refuses {}: Where= is another path than its name says", unit.name),
                      evidence_place(files_.place(unit.fragment),
                                     units::unescape_path(unit.name.substr(0, unit.name.size() - unit.type().size())),
                                     where.empty() ? "absent" : where));
    if (what.empty())
        refuse(unit, UnitLoad::BadSetting, fmt::format("systemd refuses {}: What= is missing", unit.name),
               evidence_place(files_.place(unit.fragment), "What=", "absent"));
}

void UnitStore::Impl::automount(Unit& unit) {
    const auto where = expanded(unit, unit.value("Automount", "Where").value_or("")).value_or("");
    if (UnitStore::name_of_path(where, ".automount") != unit.name || where == "/")
        return refuse(unit, UnitLoad::BadSetting,
                      fmt::format("systemd refuses {}: Where= is another path than its name says", unit.name),
                      evidence_place(files_.place(unit.fragment), unit.name, where.empty() ? "absent" : where));
    needs_mounts_for(unit, parent_of(where));
    tie_both(unit, UnitTie::Before, UnitTie::Triggers, UnitStore::name_of_path(where, ".mount"),
             rule("what it mounts"));
    if (!unit.is_on("Unit", "DefaultDependencies", true)) return;
    const auto said = rule("default dependencies");
    tie(unit, UnitTie::Before, "local-fs.target", said);
    tie(unit, UnitTie::After, "local-fs-pre.target", said);
    at_shutdown(unit, "umount.target");
}

void UnitStore::Impl::swap(Unit& unit) {
    const auto what = expanded(unit, unit.value("Swap", "What").value_or("")).value_or("");
    if (what.empty() || UnitStore::name_of_path(what, ".swap") != unit.name)
        return refuse(unit, UnitLoad::BadSetting,
                      fmt::format("systemd refuses {}: What= is another path than its name says", unit.name),
                      evidence_place(files_.place(unit.fragment), unit.name, what.empty() ? "absent" : what));
    exec_context(unit, "Swap");
    needs_mounts_for(unit, what);
    if (is_device_path(what)) {
        needs_device(unit, what, UnitTie::Requires);
        tie(unit, UnitTie::After, fmt::format("blockdev@{}.target", escape_path(what)), rule("its device"));
    } else tie(unit, UnitTie::After, "systemd-remount-fs.service", rule("a swap file may need a writable root"));
    if (!unit.is_on("Unit", "DefaultDependencies", true)) return;
    tie(unit, UnitTie::Before, "swap.target", rule("default dependencies"));
    at_shutdown(unit, "umount.target");
}

void UnitStore::Impl::timer(Unit& unit) {
    static constexpr std::string_view times[] = {"OnActiveSec",     "OnBootSec",         "OnStartupSec",
                                                 "OnUnitActiveSec", "OnUnitInactiveSec", "OnCalendar",
                                                 "OnClockChange",   "OnTimezoneChange"};
    const bool any =
        std::ranges::any_of(times, [&](std::string_view key) { return unit.value("Timer", key).has_value(); });
    starts_another(unit, "Timer", "Unit");
    if (unit.is_on("Timer", "Persistent", false)) needs_mounts_for(unit, "/var/lib/systemd/timers");
    if (starts_early(unit, "timers.target") && unit.value("Timer", "OnCalendar"))
        for (const char* one : {"time-sync.target", "time-set.target"})
            tie(unit, UnitTie::After, one, rule("default dependencies"));
    if (!any)
        refuse(unit, UnitLoad::BadSetting, fmt::format("systemd refuses {}: it names no time", unit.name),
               evidence_place(files_.place(unit.fragment), "OnCalendar=", "absent"));
}

void UnitStore::Impl::path(Unit& unit) {
    static constexpr std::string_view watches[] = {"PathExists", "PathExistsGlob", "PathChanged", "PathModified",
                                                   "DirectoryNotEmpty"};
    bool any = false;
    for (const auto& key : watches)
        for (const auto* setting : unit.values("Path", key)) {
            any = true;
            if (const auto value = expanded(unit, setting->value)) needs_mounts_for(unit, *value);
        }
    starts_another(unit, "Path", "Unit");
    starts_early(unit, "paths.target");
    if (!any)
        refuse(unit, UnitLoad::BadSetting, fmt::format("systemd refuses {}: it watches no path", unit.name),
               evidence_place(files_.place(unit.fragment), "PathExists=", "absent"));
}

void UnitStore::Impl::extras(Unit& unit) {
    const auto type = unit.type();
    if (type == ".service") service(unit);
    else if (type == ".socket") socket(unit);
    else if (type == ".mount") mount(unit);
    else if (type == ".automount") automount(unit);
    else if (type == ".swap") swap(unit);
    else if (type == ".timer") timer(unit);
    else if (type == ".path") path(unit);
    else if ((type == ".target" || (type == ".slice" && unit.name != "-.slice" && unit.name != "system.slice")) &&
             unit.is_on("Unit", "DefaultDependencies", true))
        at_shutdown(unit, "shutdown.target");
    if (unit.load == UnitLoad::Loaded) slice_of(unit);
}

}  // namespace herberge
