// SPDX-License-Identifier: MIT
#include "loader/windows/store.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <charconv>
#include <set>

#include <herberge/pe.hpp>

#include "loader/family.hpp"
#include "ondisk/describe.hpp"

namespace herberge::loader::windows {

namespace {

constexpr std::size_t most_objects = 2000;
constexpr std::size_t most_elements = 500;

struct Name {
    std::uint32_t type;
    std::string_view name;
};
constexpr Name names[] = {{element::device, "device"},
                          {element::path, "path"},
                          {element::description, "description"},
                          {0x12000005, "locale"},
                          {element::inherit, "inherit"},
                          {element::recovery_sequence, "recoverysequence"},
                          {element::recovery_enabled, "recoveryenabled"},
                          {element::test_signing, "testsigning"},
                          {element::no_integrity, "nointegritychecks"},
                          {element::display_order, "displayorder"},
                          {element::boot_sequence, "bootsequence"},
                          {element::default_object, "default"},
                          {element::timeout, "timeout"},
                          {0x26000005, "resume"},
                          {0x23000006, "resumeobject"},
                          {element::tools, "toolsdisplayorder"},
                          {element::show_menu, "displaybootmenu"},
                          {element::os_device, "osdevice"},
                          {element::system_root, "systemroot"},
                          {element::kernel, "kernel"},
                          {element::hal, "hal"},
                          {element::safe_boot, "safeboot"},
                          {element::win_pe, "winpe"},
                          {element::head_device, "ramdisksdidevice"},
                          {element::head_path, "ramdisksdipath"},
                          {0x250000C2, "bootmenupolicy"},
                          {0x25000020, "nx"}};

}  // namespace

std::string_view element_name(std::uint32_t type) {
    const auto* found = std::ranges::find(names, type, &Name::type);
    return found != std::end(names) ? found->name : std::string_view{};
}

Result<Store> Store::read(const Hive& hive) {
    const auto objects = hive.at("Objects");
    if (!objects) return tl::unexpected(objects.error());
    const auto keys = hive.subkeys(*objects);
    if (!keys) return tl::unexpected(keys.error());
    Store out;
    for (const auto key : *keys) {
        if (out.objects_.size() >= most_objects) break;
        const auto name = hive.name(key);
        if (!name) continue;
        Object object;
        object.id = lower_text(*name);
        if (const auto description = hive.subkey(key, "Description"))
            if (const auto type = hive.value(*description, "Type"))
                object.type = static_cast<std::uint32_t>(type->number().value_or(0));
        if (const auto elements = hive.subkey(key, "Elements"))
            if (const auto all = hive.subkeys(*elements))
                for (const auto id : *all) {
                    const auto code = hive.name(id);
                    std::uint32_t type = 0;
                    if (!code || object.elements.size() >= most_elements) continue;
                    const auto [end, error] = std::from_chars(code->data(), code->data() + code->size(), type, 16);
                    if (error != std::errc{} || end != code->data() + code->size()) continue;
                    if (auto value = hive.value(id, "Element")) object.elements.emplace(type, std::move(*value));
                }
        out.objects_.emplace(object.id, std::move(object));
    }
    return out;
}

const Object* Store::find(std::string_view id) const {
    const auto found = objects_.find(lower_text(id));
    return found != objects_.end() ? &found->second : nullptr;
}

const HiveValue* Store::value(const Object& object, std::uint32_t type) const {
    std::set<std::string> seen;
    std::vector<const Object*> pending{&object};
    while (!pending.empty()) {
        const Object* here = pending.back();
        pending.pop_back();
        if (!seen.insert(here->id).second) continue;
        if (const auto found = here->elements.find(type); found != here->elements.end()) return &found->second;
        const auto parents = here->elements.find(element::inherit);
        if (parents == here->elements.end()) continue;
        auto ids = parents->second.texts();
        std::ranges::reverse(ids);
        for (const auto& id : ids)
            if (const auto* parent = find(id)) pending.push_back(parent);
    }
    return nullptr;
}

std::string Store::text(const Object& object, std::uint32_t type) const {
    const auto* found = value(object, type);
    return found != nullptr ? found->text() : std::string{};
}

std::vector<std::string> Store::list(const Object& object, std::uint32_t type) const {
    const auto* found = value(object, type);
    if (found == nullptr) return {};
    return found->texts();
}

std::optional<std::uint64_t> Store::number(const Object& object, std::uint32_t type) const {
    const auto* found = value(object, type);
    return found != nullptr ? found->number() : std::nullopt;
}

namespace {

/// An entry whose RAM disk cannot be made ends there.
void stop_at_ram_disk(MenuEntry& entry, const RamDisk& ram_disk, FileReference& loader) {
    if (ram_disk.problem) {
        loader.miss(ram_disk.problem->code == Code::WindowsImageUnreadable ? Lack::Unreadable : Lack::Absent,
                    ram_disk.problem->text);
        stop(entry, ram_disk.problem->code, fmt::format("“{}”: {}", entry.title, ram_disk.problem->text));
        entry.stop->evidence = ram_disk.problem->evidence;
        const auto screens = screens_of(entry.stop->code);
        if (!screens.empty())
            entry.messages.push_back({screens.front().starts_with('(')
                                          ? std::string(screens.front())
                                          : fmt::format("File: {}\n{}", ram_disk.image.written, screens.front()),
                                      entry.place, 0});
    } else if (!ram_disk.untold.empty()) {
        entry.unread = ram_disk.untold;
    } else if (ram_disk.volume->files(Observer::WindowsLoader) == nullptr) {
        const auto why = ram_disk.volume->problem(Observer::WindowsLoader);
        entry.unread = fmt::format("the files in {} are not read here: {}", ram_disk.image.place, why ? why->what : "");
    }
}

/// Turns one object into an entry, as far as the boot manager itself looks.
MenuEntry entry_of(const Machine& machine, const Store& store, const Object& object, const Volume& boot,
                   const std::string& where, int index) {
    MenuEntry entry;
    entry.title = store.text(object, element::description);
    if (entry.title.empty()) entry.title = object.id;
    entry.id = object.id;
    entry.place = where;
    entry.index = index;
    entry.path = {index};
    const auto* device = store.value(object, element::device);
    std::string path = store.text(object, element::path);
    if (object.type == object::ntldr && path.empty()) path = std::string("\\ntldr");
    const Device loader = device != nullptr ? decode_device(machine, *device, boot.shared_from_this())
                                            : Device{Device::Kind::Boot, boot.shared_from_this(),
                                                     "no device: the boot manager's own volume"};
    const bool os = object.type == object::os_loader;
    entry.kind = os ? EntryKind::Windows : object.type == object::memory_test ? EntryKind::Tool : EntryKind::Nothing;
    FileReference file;
    file.written = path;
    file.line = 0;
    const std::string screen = fmt::format("File: {}\nStatus: ", path);
    auto refuse = [&](Code code, std::string why, const std::string& status) {
        file.miss(Lack::Absent, why);
        entry.messages.push_back({screen + status, where, 0});
        stop(entry, code, std::move(why));
    };
    VolumeRef volume = loader.volume;
    if (loader.kind == Device::Kind::Locate)
        machine.each_volume([&](const Volume& v) {
            if (volume == nullptr && plain_view(v) != nullptr && refer(v, path, slashes(path), 0).found())
                volume = v.shared_from_this();
        });
    if (loader.kind == Device::Kind::File || loader.kind == Device::Kind::Other ||
        (loader.kind == Device::Kind::Ramdisk && !os)) {
        entry.kind = EntryKind::Nothing;  // a virtual disk: not walked
        return entry;
    }
    RamDisk ram_disk;
    if (loader.kind == Device::Kind::Ramdisk) {
        ram_disk = open_ram_disk(machine, store, loader, boot.shared_from_this());
        volume = ram_disk.volume;
        stop_at_ram_disk(entry, ram_disk, file);
    }
    if (entry.stop || !entry.unread.empty()) {
        // No RAM disk, no loader in it.
    } else if (path.empty()) {
        if (os) refuse(Code::StoreNoPath, "the entry has no path to a loader", "0xc000000d");
    } else if (volume == nullptr) {
        refuse(Code::StoreDeviceGone,
               fmt::format("“{}” starts {} from {}, and nothing here answers to that", entry.title, path, loader.text),
               "0xc000000e");
    } else if (plain_view(*volume) == nullptr) {
        refuse(
            Code::StoreDeviceUnreadable,
            fmt::format("“{}” starts {} from {}, whose file system cannot be read", entry.title, path, volume->place),
            "0xc000000e");
    } else {
        file = refer(*volume, path, slashes(path), 0);
        if (!file.found()) {
            const std::string why =
                fmt::format("“{}” starts {}:{}, which {}", entry.title, volume->place, slashes(path),
                            file.unreadable() ? "cannot be read: " + *file.error : std::string("is not there"));
            entry.messages.push_back({screen + (file.unreadable() ? "0xc0000185" : "0xc000000f"), where, 0});
            stop_without(entry, file, no_kernel, why);
        }
    }
    entry.kernel = {file};
    entry.kernel_loaded = file.found() && !entry.stop;
    if (entry.kind == EntryKind::Tool && entry.kernel_loaded) {
        const auto source = open_file(file);
        const auto sum = source ? pe_checksum(*source) : fail(ErrorKind::Io, "it cannot be opened");
        const auto image = source ? inspect_pe(*source) : fail(ErrorKind::Io, "it cannot be opened");
        if (!sum || !image) {
            entry.kernel_loaded = false;
            const bool unreadable =
                !sum && (sum.error().kind == ErrorKind::Unreadable || sum.error().kind == ErrorKind::Io);
            entry.messages.push_back({screen + (unreadable ? "0xc0000185" : "0xc000007b"), where, 0});
            stop(entry, Code::WindowsToolDamaged,
                 fmt::format("“{}” starts {}, which cannot be loaded: {}", entry.title, file.place,
                             !sum ? sum.error().what : image.error().what));
        }
    }
    if (!os) return entry;
    WindowsStart start;
    start.boot_volume = boot.shared_from_this();
    start.generation = 6;
    start.loader = file;
    const auto* os_device = store.value(object, element::os_device);
    const Device system = os_device != nullptr ? decode_device(machine, *os_device, boot.shared_from_this()) : loader;
    const bool in_memory = system.kind == Device::Kind::Ramdisk;
    start.system = system.kind == Device::Kind::Locate || in_memory ? volume : system.volume;
    if (in_memory) start.image = ram_disk.image;
    start.system_device = system.text;
    start.directory = slashes(store.text(object, element::system_root));
    start.kernel_name = store.text(object, element::kernel);
    start.hal_name = store.text(object, element::hal);
    start.safe_mode = store.number(object, element::safe_boot).has_value();
    start.test_signing = store.number(object, element::test_signing).value_or(0) != 0;
    start.no_integrity_checks = store.number(object, element::no_integrity).value_or(0) != 0;
    entry.windows = std::move(start);
    return entry;
}

/// The objects that the recovery sequences of these entries lead to and that are no entries themselves.
std::vector<std::string> recovery_sequences(const Store& store, const std::vector<std::string>& entries) {
    std::vector<std::string> out;
    const auto known = [](const std::vector<std::string>& list, const std::string& id) {
        return std::ranges::any_of(list, [&](const std::string& one) { return lower_text(one) == lower_text(id); });
    };
    for (const auto& entry : entries) {
        const auto* object = store.find(entry);
        if (object == nullptr || store.number(*object, element::recovery_enabled).value_or(1) == 0) continue;
        for (const auto& id : store.list(*object, element::recovery_sequence))
            if (store.find(id) != nullptr && !known(entries, id) && !known(out, id)) out.push_back(id);
    }
    return out;
}

}  // namespace

StoreMenu read_store_menu(const Machine& machine, const Hive& hive, const Volume& boot, const std::string& where,
                          bool efi) {
    StoreMenu out;
    Menu& menu = out.menu;
    menu.loader = "Windows Boot Manager";
    menu.place = where;
    const auto store = Store::read(hive);
    if (!store) {
        out.empty = true;
        return out;
    }
    const Object* manager = store->find(object::boot_manager_id);
    std::vector<std::string> order;
    std::string chosen;
    if (manager != nullptr) {
        const auto once = store->list(*manager, element::boot_sequence);
        order = store->list(*manager, element::display_order);
        chosen = !once.empty() ? once.front() : store->text(*manager, element::default_object);
        menu.timeout =
            static_cast<int>(std::min<std::uint64_t>(store->number(*manager, element::timeout).value_or(30), 100000));
        menu.default_setting = chosen;
    }
    // Without a default the first of the list is started; a default that is on no list is started all the same.
    if (chosen.empty() && !order.empty()) chosen = order.front();
    if (!chosen.empty() &&
        std::ranges::none_of(order, [&](const std::string& id) { return lower_text(id) == lower_text(chosen); }))
        order.insert(order.begin(), chosen);
    out.empty = order.empty();
    if (manager != nullptr)
        for (const auto& id : store->list(*manager, element::tools)) order.push_back(id);
    int index = 0;
    for (const auto& id : order) {
        const auto* object = store->find(id);
        if (object == nullptr) continue;
        if (lower_text(id) == lower_text(chosen)) menu.default_entry = index;
        menu.entries.push_back(entry_of(machine, *store, *object, boot, where, index++));
        menu.entries.back().windows_efi = efi;
    }
    // What no menu shows: where a loader goes when its system does not start.
    for (const auto& id : recovery_sequences(*store, order)) {
        menu.entries.push_back(entry_of(machine, *store, *store->find(id), boot, where, index++));
        menu.entries.back().windows_efi = efi;
        menu.entries.back().kind = EntryKind::Recovery;
    }
    menu.default_matches = chosen.empty() || store->find(chosen) != nullptr;
    if (menu.entries.empty()) out.empty = true;
    const bool show = manager != nullptr && store->number(*manager, element::show_menu).value_or(0) != 0;
    const auto systems =
        std::ranges::count_if(menu.entries, [](const MenuEntry& e) { return e.kind == EntryKind::Windows; });
    if (systems < 2 && !show) {
        // One system only: it starts without a menu.
        menu.style = MenuStyle::Hidden;
        menu.timeout = 0;
        menu.reveal = "F8 or F10";
    }
    return out;
}

}  // namespace herberge::loader::windows
