// SPDX-License-Identifier: MIT
// Windows: values of its registry and of its boot store.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <cstring>

#include <herberge/system.hpp>

#include "bytes/text16.hpp"
#include "ondisk/windows.hpp"
#include "remedy/hive_edits.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

/// The installed system that this one is; none: it could not be identified.
std::optional<InstalledSystem> installed(const Case& stopped) {
    for (auto& system : find_systems(stopped.machine))
        if (system.kind == SystemKind::Windows && stopped.system.place == system.volume->place)
            return std::move(system);
    return std::nullopt;
}

bool is_there(const Volume& volume, const std::string& path) {
    const auto* fs = volume.files(Observer::Nt);
    return fs != nullptr && resolve(*fs, path).has_value();
}

// --- the registry ----------------------------------------------------------------------------------------------------

/// Drivers of disks that are there and do not start at boot.
void start_values(const Case& stopped, const InstalledSystem& system, const FilePlace& hive, std::vector<Idea>& out) {
    if (stopped.rung.stage != Stage::Root) return;
    const auto registry = read_windows_registry(*system.volume, system.directory);
    if (!registry) return;
    static constexpr std::array<std::string_view, 7> needed = {"disk",     "partmgr", "volmgr", "volume",
                                                               "mountmgr", "ftdisk",  "pci"};
    for (const auto& service : registry->services) {
        const std::string name = lower_text(service.name);
        const bool always = std::ranges::find(needed, name) != needed.end();
        const bool controller = lower_text(service.group) == "scsi miniport" || name == "pciide" ||
                                name == "intelide" || name == "stornvme" || name == "storvsc";
        if (service.start == 0 || (!always && !controller) || !is_there(*system.volume, service.file)) continue;
        const std::string key = fmt::format("ControlSet{:03}\\Services\\{}", registry->current, service.name);
        out.push_back({fmt::format("let the driver {} of {} start at boot (Start is {})", service.name,
                                   system.volume->place, service.start),
                       controller ? "it must be the driver of this machine's controller" : "",
                       [hive, key](Workshop& shop) { return set_number(shop, hive, key, "Start", 0); },
                       always                                                      ? 10
                       : name == "storahci" || name == "atapi" || name == "msahci" ? 11
                                                                                   : 13});
    }
}

/// Filters of disks and volumes that are not there.
void filters(const Case& stopped, const InstalledSystem& system, const FilePlace& hive, std::vector<Idea>& out) {
    if (!stopped.has(Code::WindowsFilterMissing)) return;
    const auto registry = read_windows_registry(*system.volume, system.directory);
    const auto open = open_clean(stopped.machine, hive);
    if (!registry || !open) return;
    for (const auto& filter : registry->filters) {
        const auto service = std::ranges::find_if(registry->services, [&](const WindowsService& one) {
            return lower_text(one.name) == lower_text(filter.service);
        });
        if (service != registry->services.end() && is_there(*system.volume, service->file)) continue;
        const std::string name = filter.upper ? "UpperFilters" : "LowerFilters";
        const auto key = (*open)->at(filter.key);
        const auto value = key ? (*open)->value(*key, name) : tl::unexpected(key.error());
        if (!value) continue;
        std::u16string left;
        for (const auto& one : value->texts())
            if (lower_text(one) != lower_text(filter.service)) left += utf16_from(one) + u'\0';
        left += u'\0';
        std::vector<std::uint8_t> content;
        for (const char16_t unit : left) {
            content.push_back(static_cast<std::uint8_t>(unit));
            content.push_back(static_cast<std::uint8_t>(unit >> 8U));
        }
        out.push_back({fmt::format("take {} out of the {} of {} in the registry of {}", filter.service, name,
                                   filter.device_class, system.volume->place),
                       "the program that it belongs to does not work any more",
                       [hive, where = filter.key, name, content = std::move(content)](Workshop& shop) {
                           return set_value(shop, hive, where, name, content);
                       },
                       10});
    }
}

/// A driver's path that leads nowhere, where the usual one has the file.
void image_paths(const Case& stopped, const InstalledSystem& system, const FilePlace& hive, std::vector<Idea>& out) {
    if (!stopped.has(Code::WindowsBootDriverMissing)) return;
    const auto registry = read_windows_registry(*system.volume, system.directory);
    if (!registry) return;
    for (const auto& service : registry->services) {
        const std::string usual = fmt::format("{}/System32/drivers/{}.sys", system.directory, service.name);
        if (service.start != 0 || service.image_path.empty() || is_there(*system.volume, service.file) ||
            !is_there(*system.volume, usual))
            continue;
        const std::string key = fmt::format("ControlSet{:03}\\Services\\{}", registry->current, service.name);
        out.push_back(
            {fmt::format("take the path of the driver {} out of the registry of {} (it says {}): then {} is loaded",
                         service.name, system.volume->place, service.image_path, usual),
             "the value stays there under the name _magePath",
             [hive, key](Workshop& shop) { return rename_value(shop, hive, key, "ImagePath", "_magePath"); }, 11});
    }
}

/// Select names a control set that is not there.
void control_sets(const Case& stopped, const InstalledSystem& system, const FilePlace& hive, std::vector<Idea>& out) {
    if (!stopped.has(Code::WindowsSystemHive)) return;
    const auto open = open_clean(stopped.machine, hive);
    if (!open) return;
    for (std::uint32_t set = 1; set < 10; ++set) {
        if (!(*open)->at(fmt::format("ControlSet{:03}", set)) || (*open)->number_at("Select", "Current") == set)
            continue;
        out.push_back({fmt::format("let {} use its control set {} (Select names one that is not there)",
                                   system.volume->place, set),
                       "settings that were made in another set are not there",
                       [hive, set](Workshop& shop) -> Result<void> {
                           for (const char* name : {"Current", "Default"})
                               if (auto done = set_number(shop, hive, "Select", name, set); !done) return done;
                           return {};
                       },
                       10});
    }
}

// --- the boot store --------------------------------------------------------------------------------------------------

constexpr const char* device = "11000001";
constexpr const char* os_device = "21000001";
constexpr const char* path = "12000002";
constexpr const char* system_root = "22000002";

/// The record of a device with another partition in it; empty: it is of another kind.
std::vector<std::uint8_t> pointed_at(std::vector<std::uint8_t> record, const Machine& machine, const Volume& volume) {
    constexpr std::size_t at = sizeof(ondisk::StoreDevice);
    const Disk* disk = machine.disk(volume.disk);
    if (disk == nullptr || record.size() < at + sizeof(ondisk::StoreMbrPartition) ||
        ondisk::from_bytes<ondisk::StoreDevice>(record).type != 6)
        return {};
    const auto where = volume.source->locate(0, std::min<std::uint64_t>(512, volume.source->size()));
    auto mbr = ondisk::from_bytes<ondisk::StoreMbrPartition>(record, at);
    if (mbr.style != 1 || disk->table.kind != TableKind::Mbr || where.empty()) return {};
    mbr.offset = where.front().offset;
    mbr.signature = disk->table.disk_signature;
    std::memcpy(record.data() + at, &mbr, sizeof(mbr));
    return record;
}

struct Object {
    const FilePlace& store;
    const Hive& hive;
    std::string name;

    [[nodiscard]] std::string key(const char* element) const {
        return fmt::format("Objects\\{}\\Elements\\{}", name, element);
    }
    [[nodiscard]] std::optional<HiveValue> value(const char* element) const {
        const auto id = hive.at(key(element));
        auto found = id ? hive.value(*id, "Element") : tl::unexpected(id.error());
        return found ? std::optional(std::move(*found)) : std::nullopt;
    }
    void set(const char* element, const char* called, std::vector<std::uint8_t> content, const std::string& to,
             std::vector<Idea>& out) const {
        out.push_back(
            {fmt::format("in the boot store {}:{}, let {} of {} name {}", store.volume, store.path, called, name, to),
             {},
             [file = store, where = key(element), content = std::move(content)](Workshop& shop) {
                 return set_value(shop, file, where, "Element", content);
             },
             12});
    }
    void set(const char* element, const char* called, const std::string& text, std::vector<Idea>& out) const {
        out.push_back(
            {fmt::format("in the boot store {}:{}, let {} of {} be {}", store.volume, store.path, called, name, text),
             {},
             [file = store, where = key(element), text](Workshop& shop) {
                 return set_text(shop, file, where, "Element", text);
             },
             12});
    }
};

/// `pattern`: a device record of the store that names a partition; empty: it has none.
void store_object(const Case& stopped, const InstalledSystem& system, const Object& object,
                  const std::vector<std::uint8_t>& pattern, std::vector<Idea>& out) {
    const auto first = object.value(device);
    const auto second = object.value(os_device);
    const auto changed = [&](const std::optional<HiveValue>& value) {
        // "The volume of the boot manager" names no partition: a record that does, of the same size, takes its place.
        const bool of_manager = value && ondisk::from_bytes<ondisk::StoreDevice>(value->data).type == 5;
        auto out_of = !value ? std::vector<std::uint8_t>{}
                             : pointed_at(of_manager && pattern.size() == value->data.size() ? pattern : value->data,
                                          stopped.machine, *system.volume);
        return value && out_of != value->data ? out_of : std::vector<std::uint8_t>{};
    };
    const auto new_first = changed(first);
    const auto new_second = changed(second);
    // A disk that was copied to another one: both go together.
    if (!new_first.empty() && !new_second.empty())
        out.push_back({fmt::format("in the boot store {}:{}, let device and osdevice of {} name {}",
                                   object.store.volume, object.store.path, object.name, system.volume->place),
                       {},
                       [file = object.store, one = object.key(device), two = object.key(os_device), new_first,
                        new_second](Workshop& shop) -> Result<void> {
                           if (auto done = set_value(shop, file, one, "Element", new_first); !done) return done;
                           return set_value(shop, file, two, "Element", new_second);
                       },
                       12});
    if (!new_first.empty()) object.set(device, "device", new_first, system.volume->place, out);
    if (!new_second.empty()) object.set(os_device, "osdevice", new_second, system.volume->place, out);
    if (first && second && first->data != second->data) {
        object.set(device, "device", second->data, "what osdevice names", out);
        object.set(os_device, "osdevice", first->data, "what device names", out);
    }
    if (const auto root = object.value(system_root)) {
        std::string directory = system.directory;
        std::ranges::replace(directory, '/', '\\');
        if (lower_text(root->text()) != lower_text(directory)) object.set(system_root, "systemroot", directory, out);
    }
    if (const auto loader = object.value(path)) {
        std::string written = loader->text();
        std::ranges::replace(written, '\\', '/');
        std::vector<std::string> better;
        if (const auto* fs = system.volume->files(Observer::WindowsLoader)) better = near_misses(*fs, written);
        const bool efi = stopped.verdict.firmware == FirmwareKind::Uefi;
        better.push_back(fmt::format("{}/system32/winload.{}", system.directory, efi ? "efi" : "exe"));
        for (auto& one : better) {
            if (!is_there(*system.volume, one) || lower_text(one) == lower_text(written)) continue;
            std::ranges::replace(one, '/', '\\');
            object.set(path, "path", one, out);
        }
    }
}

void boot_store(const Case& stopped, const InstalledSystem& system, std::vector<Idea>& out) {
    stopped.machine.each_volume([&](const Volume& volume) {
        for (const char* name : {"/Boot/BCD", "/EFI/Microsoft/Boot/BCD"}) {
            const FilePlace store{volume.place, name};
            const auto* fs = volume.files(Observer::Linux);
            if (fs == nullptr || !resolve(*fs, name)) continue;
            const auto hive = open_clean(stopped.machine, store);
            const auto objects = hive ? (*hive)->at("Objects") : tl::unexpected(hive.error());
            const auto keys = objects ? (*hive)->subkeys(*objects) : tl::unexpected(objects.error());
            if (!keys) continue;
            std::vector<Object> objects_of;
            std::vector<std::uint8_t> pattern;
            for (std::size_t i = 0; i < std::min<std::size_t>(keys->size(), 64); ++i) {
                const auto called = (*hive)->name((*keys)[i]);
                if (!called) continue;
                objects_of.push_back({store, **hive, *called});
                for (const char* element : {device, os_device}) {
                    const auto value = objects_of.back().value(element);
                    if (value && ondisk::from_bytes<ondisk::StoreDevice>(value->data).type == 6) pattern = value->data;
                }
            }
            for (const auto& object : objects_of)
                if (object.value(system_root)) store_object(stopped, system, object, pattern, out);
        }
    });
}

}  // namespace

void propose_windows(const Case& stopped, std::vector<Idea>& out) {
    const auto system = installed(stopped);
    if (!system) return;
    const FilePlace hive{system->volume->place, system->directory + "/System32/config/SYSTEM"};
    start_values(stopped, *system, hive, out);
    filters(stopped, *system, hive, out);
    image_paths(stopped, *system, hive, out);
    control_sets(stopped, *system, hive, out);
    if (stopped.rung.stage >= Stage::Configuration && stopped.rung.stage <= Stage::Kernel)
        boot_store(stopped, *system, out);
}

}  // namespace herberge::remedy
