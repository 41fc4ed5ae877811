// SPDX-License-Identifier: MIT
// Windows installations by their directory and hives, and what their registry starts.
#include <fmt/format.h>
#include <algorithm>
#include <map>

#include <herberge/hive.hpp>
#include <herberge/system.hpp>

#include "artifact/hive_whole.hpp"
#include "system/windows.hpp"
#include "system/windows_state.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_services = 5000;

Source open_path(const FileSystem& fs, const std::string& path, const std::string& place) {
    const auto found = resolve(fs, path);
    if (!found || found->file.type != FileType::Regular) return nullptr;
    auto source = fs.open(found->file.id, place + ":" + path);
    return source ? *source : nullptr;
}

std::string product_name(const Hive& hive) {
    constexpr std::string_view key = "Microsoft\\Windows NT\\CurrentVersion";
    std::string out = hive.text_at(key, "ProductName").value_or("");
    const std::string service_pack = hive.text_at(key, "CSDVersion").value_or("");
    std::string build = hive.text_at(key, "CurrentBuildNumber").value_or("");
    if (build.empty()) build = hive.text_at(key, "CurrentBuild").value_or("");
    if (out.empty()) return out;
    if (!service_pack.empty()) out += " " + service_pack;
    if (!build.empty()) out += fmt::format(" (build {})", build);
    return printable(out);
}

}  // namespace

Result<std::shared_ptr<const Hive>> open_windows_hive(const Volume& volume, const std::string& directory,
                                                      const std::string& name) {
    const FileSystem* fs = volume.files(Observer::Nt);
    const std::string path = fmt::format("{}/System32/config/{}", directory, name);
    if (fs == nullptr) return fail(ErrorKind::NotFound, "no file system", volume.place);
    const auto found = resolve(*fs, path);
    if (!found) return tl::unexpected(found.error());
    auto file = fs->open(found->file.id, fmt::format("{}:{}", volume.place, path));
    if (!file) return tl::unexpected(file.error());
    std::vector<Source> logs;
    for (const char* ending : {".LOG", ".LOG1", ".LOG2"})
        if (auto log = open_path(*fs, path + ending, volume.place)) logs.push_back(std::move(log));
    return open_hive(*file, logs);
}

char windows_letter(const Volume& volume, const std::string& directory) {
    const auto software = open_windows_hive(volume, directory, "SOFTWARE");
    const auto root =
        software ? (*software)->text_at("Microsoft\\Windows NT\\CurrentVersion", "SystemRoot") : std::nullopt;
    return root && root->size() > 2 && (*root)[1] == ':' ? root->front() : 'C';
}

std::vector<InstalledSystem> find_windows(const Volume& volume) {
    std::vector<InstalledSystem> out;
    const FileSystem* fs = volume.files(Observer::Nt);
    if (fs == nullptr || !fs->ignores_case()) return out;
    const auto names = fs->list(fs->root());
    if (!names) return out;
    std::size_t looked = 0;
    for (const auto& entry : *names) {
        if (entry.type == FileType::Regular || entry.name.starts_with('$') || entry.name == "." || entry.name == ".." ||
            ++looked > 500)
            continue;
        const std::string directory = "/" + entry.name;
        const auto exists = [&](std::string_view path) {
            return resolve(*fs, directory + std::string(path)).has_value();
        };
        if (!exists("/System32")) continue;
        const bool hives = exists("/System32/config/SYSTEM") || exists("/System32/config/SOFTWARE");
        const bool kernel = exists("/System32/ntoskrnl.exe");
        if (!hives && !kernel) continue;
        InstalledSystem system;
        system.kind = SystemKind::Windows;
        system.volume = volume.shared_from_this();
        system.directory = directory;
        system.mark = directory + (hives ? "/System32/config" : "/System32/ntoskrnl.exe");
        system.name = "Windows";
        if (const auto hive = open_windows_hive(volume, directory, "SOFTWARE")) {
            if (auto name = product_name(**hive); !name.empty()) system.name = name;
            system.version = (*hive)->text_at("Microsoft\\Windows NT\\CurrentVersion", "CurrentVersion").value_or("");
        }
        if (const auto found = resolve(*fs, directory + "/System32/config/SYSTEM"))
            system.last_used = found->file.modified;
        out.push_back(std::move(system));
    }
    return out;
}

std::string windows_image_path(std::string_view image_path, std::string_view service, std::uint32_t type,
                               std::string_view directory) {
    const bool driver = type == 1 || type == 2 || type == 8;
    std::string path(image_path);
    if (path.empty()) {
        if (!driver) return {};
        return fmt::format("{}/System32/drivers/{}.sys", directory, service);
    }
    std::ranges::replace(path, '\\', '/');
    // A program may be quoted and have arguments behind it.
    if (path.starts_with('"')) path = path.substr(1, path.find('"', 1) - 1);
    else if (!driver)
        if (const auto end = lower_text(path).find(".exe "); end != std::string::npos) path.resize(end + 4);
    const std::string small = lower_text(path);
    auto behind = [&](std::string_view lead) { return path.substr(lead.size()); };
    for (const std::string_view lead : {"/systemroot/", "%systemroot%/", "%windir%/"})
        if (small.starts_with(lead)) return fmt::format("{}/{}", directory, behind(lead));
    std::string_view rest(path);
    if (rest.starts_with("/?\?/")) rest.remove_prefix(4);
    if (rest.size() > 2 && rest[1] == ':') {
        // A drive letter: the system's own volume, as far as its start is concerned.
        return std::string(rest.substr(2));
    }
    if (rest.starts_with("/device/") || lower_text(rest).starts_with("/device/")) return {};
    if (rest.starts_with('/')) return std::string(rest);
    return fmt::format("{}/{}", directory, rest);
}

namespace {

/// Filters that PnP puts into the devices between a system and its volume (Control\Class, by the class' GUID).
std::vector<WindowsFilter> filters_of(const Hive& hive, const std::string& control_set) {
    struct Class {
        std::string_view guid, name;
        bool on_the_way;
    };
    static constexpr Class classes[] = {{"{4d36e967-e325-11ce-bfc1-08002be10318}", "disk drives", true},
                                        {"{71a27cdd-812a-11d0-bec7-08002be2092f}", "volumes", true},
                                        {"{4d36e96a-e325-11ce-bfc1-08002be10318}", "disk controllers", false},
                                        {"{4d36e97b-e325-11ce-bfc1-08002be10318}", "disk controllers", false}};
    std::vector<WindowsFilter> out;
    for (const auto& one : classes) {
        const std::string path = fmt::format("{}\\Control\\Class\\{}", control_set, one.guid);
        const auto key = hive.at(path);
        if (!key) continue;
        for (const bool upper : {true, false})
            if (const auto value = hive.value(*key, upper ? "UpperFilters" : "LowerFilters"))
                for (const auto& service : value->texts())
                    if (!service.empty()) out.push_back({std::string(one.name), upper, service, path, one.on_the_way});
    }
    return out;
}

}  // namespace

namespace {

Result<WindowsRegistry> read_registry(const Hive& hive, const Volume& volume, const std::string& directory) {
    WindowsRegistry out;
    out.findings = hive.findings();
    const auto number = [&](std::string_view name) {
        return static_cast<std::uint32_t>(hive.number_at("Select", name).value_or(0));
    };
    const auto select = hive.at("Select");
    if (!select)
        return fail(ErrorKind::Malformed, "the SYSTEM hive has no key Select",
                    fmt::format("{}:{}/System32/config/SYSTEM", volume.place, directory));
    out.current = number("Current");
    out.default_set = number("Default");
    out.failed = number("Failed");
    out.last_known_good = number("LastKnownGood");
    // The loader takes Default; the running kernel writes Current.
    const std::uint32_t used = out.default_set != 0 ? out.default_set : out.current;
    out.control_set = fmt::format("ControlSet{:03}", used);
    const auto set = hive.at(out.control_set);
    if (!set)
        return fail(ErrorKind::Malformed,
                    fmt::format("Select asks for {}, which the SYSTEM hive does not have", out.control_set),
                    fmt::format("{}:{}/System32/config/SYSTEM", volume.place, directory), out.control_set, "absent");
    // Groups in their order; within a group the tags in theirs.
    std::map<std::string, std::size_t> groups;
    if (const auto order = hive.at(out.control_set + "\\Control\\ServiceGroupOrder"))
        if (const auto list = hive.value(*order, "List"))
            for (const auto& name : list->texts()) groups.emplace(lower_text(name), groups.size());
    std::map<std::string, std::vector<std::uint32_t>> tags;
    if (const auto order = hive.at(out.control_set + "\\Control\\GroupOrderList"))
        if (const auto all = hive.values(*order))
            for (const auto& value : *all)
                for (std::size_t i = 4; i + 4 <= value.data.size(); i += 4)
                    tags[lower_text(value.name)].push_back(value.data[i] | std::uint32_t{value.data[i + 1]} << 8U |
                                                           std::uint32_t{value.data[i + 2]} << 16U |
                                                           std::uint32_t{value.data[i + 3]} << 24U);
    const auto services = hive.at(out.control_set + "\\Services");
    if (!services)
        return fail(ErrorKind::Malformed, fmt::format("{} has no services", out.control_set),
                    fmt::format("{}:{}/System32/config/SYSTEM", volume.place, directory));
    const auto keys = hive.subkeys(*services);
    if (!keys) return tl::unexpected(keys.error());
    struct Ordered {
        std::size_t group, tag, position;
        WindowsService service;
    };
    std::vector<Ordered> all;
    for (const auto key : *keys) {
        const auto name = hive.name(key);
        const auto start = hive.value(key, "Start");
        if (!name || !start || all.size() >= most_services) continue;
        WindowsService service;
        service.name = *name;
        const auto value = [&](std::string_view what, std::uint32_t usual) {
            const auto found = hive.value(key, what);
            return found ? static_cast<std::uint32_t>(found->number().value_or(usual)) : usual;
        };
        const auto text = [&](std::string_view what) {
            const auto found = hive.value(key, what);
            return found ? found->text() : std::string{};
        };
        service.type = value("Type", 0);
        service.start = static_cast<std::uint32_t>(start->number().value_or(3));
        // From NT 6.2 on a subkey overrides the start type.
        if (const auto other = hive.subkey(key, "StartOverride"))
            if (const auto zero = hive.value(*other, "0"))
                service.start = static_cast<std::uint32_t>(zero->number().value_or(service.start));
        service.error_control = value("ErrorControl", 1);
        service.image_path = text("ImagePath");
        service.group = text("Group");
        if (const auto tag = hive.value(key, "Tag"))
            service.tag = static_cast<std::uint32_t>(tag->number().value_or(0));
        const auto several = [&](std::string_view what) {
            const auto found = hive.value(key, what);
            return found ? found->texts() : std::vector<std::string>{};
        };
        service.needs = several("DependOnService");
        service.needs_groups = several("DependOnGroup");
        service.account = text("ObjectName");
        service.delayed = value("DelayedAutostart", 0) != 0;
        service.triggered = hive.subkey(key, "TriggerInfo").has_value();
        if (lower_text(service.image_path).find("svchost.exe") != std::string::npos)
            if (const auto parameters = hive.subkey(key, "Parameters"))
                if (const auto library = hive.value(*parameters, "ServiceDll")) service.library = library->text();
        service.file = windows_image_path(service.image_path, service.name, service.type, directory);
        const std::string group = lower_text(service.group);
        const auto place = groups.find(group);
        std::size_t tag_place = 10000;
        if (const auto known = tags.find(group); known != tags.end() && service.tag)
            tag_place =
                static_cast<std::size_t>(std::ranges::find(known->second, *service.tag) - known->second.begin());
        all.push_back(
            {place != groups.end() ? place->second : groups.size(), tag_place, all.size(), std::move(service)});
    }
    std::ranges::stable_sort(all, [](const Ordered& a, const Ordered& b) {
        return std::tuple(std::min(a.service.start, 3U), a.group, a.tag, a.position) <
               std::tuple(std::min(b.service.start, 3U), b.group, b.tag, b.position);
    });
    for (auto& one : all) out.services.push_back(std::move(one.service));
    out.filters = filters_of(hive, out.control_set);
    out.renames = pending_renames(hive, out.control_set);
    // National language files that the loader hands to the kernel.
    const std::string nls = out.control_set + "\\Control\\Nls\\";
    for (const char* page : {"ACP", "OEMCP"})
        if (const auto code = hive.text_at(nls + "CodePage", page))
            if (const auto file = hive.text_at(nls + "CodePage", *code); file && !file->empty())
                out.code_pages.push_back(*file);
    if (const auto language = hive.text_at(nls + "Language", "Default"))
        if (const auto file = hive.text_at(nls + "Language", *language); file && !file->empty())
            out.code_pages.push_back(*file);
    const auto session = out.control_set + "\\Control\\Session Manager\\SubSystems";
    if (const auto windows = hive.text_at(session, "Windows")) {
        std::string program = windows->substr(0, windows->find(' '));
        out.csrss = windows_image_path(program, "csrss", 16, directory);
    }
    return out;
}

}  // namespace

Result<WindowsRegistry> read_windows_registry(const Volume& volume, const std::string& directory) {
    const auto opened = open_windows_hive(volume, directory, "SYSTEM");
    if (!opened) return tl::unexpected(opened.error());
    auto out = read_registry(**opened, volume, directory);
    // The loader takes all of the file or nothing; what lies in a sector that it does not get is not absent.
    const FileSystem* fs = volume.files(Observer::Nt);
    const std::string path = directory + "/System32/config/SYSTEM";
    if (const auto file = fs != nullptr ? open_path(*fs, path, volume.place) : nullptr)
        if (auto lost = lost_of_hive(*file)) return tl::unexpected(std::move(*lost));
    return out;
}

}  // namespace herberge
