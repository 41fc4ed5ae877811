// SPDX-License-Identifier: MIT
// A boot store or boot.ini for the installations that are found, written anew.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>

#include <herberge/places.hpp>
#include <herberge/system.hpp>

#include "artifact/hive_writer.hpp"
#include "bytes/guid.hpp"
#include "loader/windows/store.hpp"
#include "ondisk/windows.hpp"
#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

using Bytes = std::vector<std::uint8_t>;
namespace element = loader::windows::element;
namespace object = loader::windows::object;

/// A store's record of a partition; empty: the volume is none, or of a disk without a table.
Bytes partition_record(const Machine& machine, const Volume& volume) {
    constexpr std::uint32_t partition = 6;
    constexpr std::size_t size = 88;  // what boot managers write, whatever the kind of disk
    const Disk* disk = machine.disk(volume.disk);
    const auto where = volume.source->locate(0, std::min<std::uint64_t>(512, volume.source->size()));
    if (disk == nullptr || volume.partition <= 0 || where.empty()) return {};
    ondisk::StoreDevice head{};
    head.type = partition;
    head.size = static_cast<std::uint32_t>(size - sizeof(head.options));
    Bytes out(size);
    std::memcpy(out.data(), &head, sizeof(head));
    if (disk->table.kind == TableKind::Mbr) {
        ondisk::StoreMbrPartition told{};
        told.offset = where.front().offset;
        told.style = 1;
        told.signature = disk->table.disk_signature;
        std::memcpy(out.data() + sizeof(head), &told, sizeof(told));
        return out;
    }
    const auto own = guid_bytes(volume.partuuid);
    const auto whole = guid_bytes(disk->table.disk_guid);
    if (disk->table.kind != TableKind::Gpt || !own || !whole) return {};
    ondisk::StoreGptPartition told{};
    told.partition = *own;
    told.disk = *whole;
    std::memcpy(out.data() + sizeof(head), &told, sizeof(told));
    return out;
}

std::string windows_path(std::string path) {
    std::ranges::replace(path, '/', '\\');
    return path;
}

bool there(const Volume& volume, const std::string& path) {
    const auto* fs = volume.files(Observer::WindowsLoader);
    return fs != nullptr && resolve(*fs, path).has_value();
}

/// The same for the same machine, and unlike any other.
std::string object_id(const InstalledSystem& system) {
    const auto one = crc32(
        0, {reinterpret_cast<const std::uint8_t*>(system.volume->partuuid.data()), system.volume->partuuid.size()});
    const auto other =
        crc32c(0, {reinterpret_cast<const std::uint8_t*>(system.directory.data()), system.directory.size()});
    return fmt::format("{{{:08x}-{:04x}-4{:03x}-8{:03x}-{:08x}{:04x}}}", one, other >> 16U, other & 0xFFFU,
                       other >> 4U & 0xFFFU, one ^ other, one & 0xFFFFU);
}

struct Wanted {
    const Case& stopped;
    const InstalledSystem& system;
    bool efi = false;
    std::string loader;  ///< "/Windows/system32/winload.exe"
};

void set_element(HiveTree& object, std::uint32_t type, HiveValue value) {
    value.name = "Element";
    object.at(fmt::format("Elements\\{:08x}", type)).set(std::move(value));
}
HiveValue text_value(std::string_view text) {
    HiveTree out;
    out.set_text("Element", text);
    return out.values.front();
}
HiveValue texts_value(const std::vector<std::string>& texts) {
    HiveTree out;
    out.set_texts("Element", texts);
    return out.values.front();
}

/// A boot manager that starts one loader, and that loader, in a store that may hold more. False: the volume cannot be
/// named.
bool add_system(HiveTree& store, const Wanted& wanted, const Volume& manager_volume) {
    const auto own = partition_record(wanted.stopped.machine, *wanted.system.volume);
    const auto manager_record = partition_record(wanted.stopped.machine, manager_volume);
    if (own.empty() || manager_record.empty()) return false;
    if (store.name.empty()) store.name = "NewStoreRoot";
    store.at("Description").set_text("KeyName", "BCD00000000");
    auto& objects = store.at("Objects");
    // A loader that names this system already is kept, and started.
    std::string id;
    for (auto& one : objects.keys) {
        const auto& types = one.at("Description").values;
        if (types.empty() || types.front().number() != object::os_loader) continue;
        const auto& device = one.at(fmt::format("Elements\\{:08x}", element::os_device)).values;
        if (!device.empty() && device.front().data == own) id = one.name;
    }
    if (id.empty()) id = object_id(wanted.system);
    auto& loader = objects.at(id);
    loader.at("Description").set_number("Type", object::os_loader);
    set_element(loader, element::device, {{}, 3, own});
    set_element(loader, element::os_device, {{}, 3, own});
    set_element(loader, element::path, text_value(windows_path(wanted.loader)));
    set_element(loader, element::system_root, text_value(windows_path(wanted.system.directory)));
    set_element(loader, element::description, text_value(wanted.system.name));
    auto& manager = objects.at(object::boot_manager_id);
    manager.at("Description").set_number("Type", object::boot_manager);
    set_element(manager, element::device, {{}, 3, manager_record});
    set_element(manager, element::description, text_value("Windows Boot Manager"));
    if (wanted.efi) set_element(manager, element::path, text_value("\\EFI\\Microsoft\\Boot\\bootmgfw.efi"));
    set_element(manager, element::default_object, text_value(id));
    auto& order = manager.at(fmt::format("Elements\\{:08x}", element::display_order));
    auto listed = order.values.empty() ? std::vector<std::string>{} : order.values.front().texts();
    if (std::ranges::find(listed, id) == listed.end()) listed.insert(listed.begin(), id);
    set_element(manager, element::display_order, texts_value(listed));
    auto& wait = manager.at(fmt::format("Elements\\{:08x}", element::timeout));
    if (wait.values.empty()) wait.set_bytes("Element", {30, 0, 0, 0, 0, 0, 0, 0});
    return true;
}

Result<void> write_store(Workshop& shop, const FilePlace& place, const HiveTree& store) {
    const auto file = write_hive(store);
    if (!file) return tl::unexpected(file.error());
    if (set_content(shop, place.volume, place.path, *file)) return {};
    return put_file(shop, place.volume, place.path, *file);
}

void offer_store(const Wanted& wanted, const Volume& volume, const FilePlace& place, std::vector<Idea>& out) {
    HiveTree store;
    bool kept = false;
    if (const auto file = open_file(wanted.stopped.machine, place))
        if (const auto hive = open_hive(file->bytes); hive && (*hive)->state() == HiveState::Clean)
            if (auto tree = read_hive_tree(**hive)) {
                store = std::move(*tree);
                kept = true;
            }
    if (!add_system(store, wanted, volume)) return;
    const auto name = fmt::format("{} on {}", shown(wanted.system.name), wanted.system.volume->place);
    out.push_back({kept ? fmt::format("in the boot store {}, start {} (its other entries are kept)", place.text(), name)
                        : fmt::format("write the boot store {} anew, with one entry for {}", place.text(), name),
                   kept ? std::string("it becomes what starts unattended")
                        : std::string("settings and entries that the old store had are not in it"),
                   [place, store](Workshop& shop) { return write_store(shop, place, store); }, kept ? 18 : 22});
}

/// Beside each boot manager of the firmware's kind.
void boot_stores(const Wanted& wanted, std::vector<Idea>& out) {
    wanted.stopped.machine.each_volume([&](const Volume& volume) {
        const bool here = wanted.efi ? there(volume, "/EFI/Microsoft/Boot/bootmgfw.efi") : there(volume, "/bootmgr");
        if (here)
            offer_store(wanted, volume, {volume.place, wanted.efi ? "/EFI/Microsoft/Boot/BCD" : "/Boot/BCD"}, out);
    });
}

/// What NTLDR calls an installation; empty: it cannot.
std::string arc_path(const Machine& machine, const InstalledSystem& system) {
    const Disk* disk = machine.disk(system.volume->disk);
    const Partition* own = disk != nullptr ? disk->table.find(system.volume->partition) : nullptr;
    const auto arc = own != nullptr ? partition_names(*disk, *own).arc : std::string{};
    return arc.empty() ? arc : arc + windows_path(system.directory);
}

/// For NTLDR, whose configuration is a text: every installation that it starts, what started so far first.
void boot_ini(const Case& stopped, std::vector<Idea>& out) {
    std::string entries;
    std::string first;
    std::string names;
    for (const auto& system : find_systems(stopped.machine)) {
        const auto arc = arc_path(stopped.machine, system);
        if (system.kind != SystemKind::Windows || arc.empty() ||
            there(*system.volume, system.directory + "/system32/winload.exe"))
            continue;
        if (first.empty()) first = arc;
        entries += fmt::format("{}=\"{} ({})\" /fastdetect\r\n", arc, shown(system.name), system.volume->place);
        names += fmt::format("{}{} ({})", names.empty() ? "" : ", ", shown(system.name), system.volume->place);
    }
    if (first.empty()) return;
    const auto text =
        fmt::format("[boot loader]\r\ntimeout=30\r\ndefault={}\r\n[operating systems]\r\n{}", first, entries);
    stopped.machine.each_volume([&](const Volume& volume) {
        if (!there(volume, "/ntldr")) return;
        out.push_back({fmt::format("write {}:/boot.ini anew, with an entry for each of {}", volume.place, names),
                       "entries and options that the old one had are not in it",
                       [place = volume.place, text](Workshop& shop) {
                           return put_file(shop, place, "/boot.ini",
                                           {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
                       },
                       20});
    });
}

}  // namespace

void propose_stores(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.rung.stage != Stage::Configuration && stopped.rung.stage != Stage::Entry &&
        stopped.rung.stage != Stage::Kernel)
        return;
    for (const auto& system : find_systems(stopped.machine)) {
        if (system.kind != SystemKind::Windows || stopped.system.place != system.volume->place) continue;
        const bool efi = stopped.verdict.firmware == FirmwareKind::Uefi;
        const auto loader = fmt::format("{}/system32/winload.{}", system.directory, efi ? "efi" : "exe");
        if (there(*system.volume, loader)) boot_stores({stopped, system, efi, loader}, out);
        else if (!efi) boot_ini(stopped, out);
    }
}

}  // namespace herberge::remedy
