// SPDX-License-Identifier: MIT
// The boot store of Windows (boot configuration data), a registry hive of objects and elements.
#pragma once

#include <map>

#include <herberge/hive.hpp>
#include <herberge/loader.hpp>

namespace herberge::loader::windows {

namespace element {
inline constexpr std::uint32_t device = 0x11000001, path = 0x12000002, description = 0x12000004, inherit = 0x14000006,
                               display_order = 0x24000001, boot_sequence = 0x24000002, default_object = 0x23000003,
                               timeout = 0x25000004, show_menu = 0x26000020, tools = 0x24000010, os_device = 0x21000001,
                               system_root = 0x22000002, kernel = 0x22000011, hal = 0x22000012, safe_boot = 0x25000080,
                               test_signing = 0x16000049, no_integrity = 0x16000048, recovery_sequence = 0x14000008,
                               win_pe = 0x26000022, recovery_enabled = 0x16000009, head_device = 0x31000003,
                               head_path = 0x32000004;
}
namespace object {
inline constexpr std::uint32_t boot_manager = 0x10100002, firmware_manager = 0x10100001, os_loader = 0x10200003,
                               resume = 0x10200004, memory_test = 0x10200005, ntldr = 0x10300006,
                               boot_sector = 0x10400008;
inline constexpr std::string_view boot_manager_id = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
}  // namespace object

/// The standard's name of an element: "osdevice"; empty when it has none here.
std::string_view element_name(std::uint32_t type);

/// A device as an element names it, resolved to this machine.
struct Device {
    enum class Kind : std::uint8_t { Boot, Partition, Ramdisk, Locate, File, Other } kind = Kind::Other;
    VolumeRef volume;     ///< null: nothing here answers to it; of a RAM disk: where its file lies
    std::string text;     ///< for people
    std::string path;     ///< of a RAM disk: its file, as written; empty: not understood
    std::string options;  ///< the object with its options
};

struct Object {
    std::string id;
    std::uint32_t type = 0;
    std::map<std::uint32_t, HiveValue> elements;
};

class Store {
public:
    /// Reads every object; damaged ones are left out.
    static Result<Store> read(const Hive& hive);
    [[nodiscard]] const Object* find(std::string_view id) const;
    [[nodiscard]] const std::map<std::string, Object, std::less<>>& objects() const { return objects_; }
    /// An element of an object or of what it inherits from; a circle of inheritance ends.
    [[nodiscard]] const HiveValue* value(const Object& object, std::uint32_t type) const;
    [[nodiscard]] std::string text(const Object& object, std::uint32_t type) const;
    [[nodiscard]] std::vector<std::string> list(const Object& object, std::uint32_t type) const;
    [[nodiscard]] std::optional<std::uint64_t> number(const Object& object, std::uint32_t type) const;

private:
    std::map<std::string, Object, std::less<>> objects_;
};

/// Decodes a device element. `boot` is the volume the boot manager was started from.
Device decode_device(const Machine& machine, const HiveValue& value, const VolumeRef& boot);

/// A RAM disk that the boot manager makes of an imaging file.
struct RamDisk {
    FileReference image;
    VolumeRef volume;                ///< the files in it; null: there is none
    std::optional<Finding> problem;  ///< why it cannot be made
    std::string untold;              ///< why that cannot be told; empty: it can
};
RamDisk open_ram_disk(const Machine& machine, const Store& store, const Device& device, const VolumeRef& boot);

/// "\\Recovery\\x" as a path here: "/Recovery/x".
std::string slashes(std::string path);

/// The menu that the store on `boot` gives. `where` names the store; `efi` is the firmware kind.
struct StoreMenu {
    Menu menu;
    bool empty = false;  ///< neither a default nor a display order
};
StoreMenu read_store_menu(const Machine& machine, const Hive& hive, const Volume& boot, const std::string& where,
                          bool efi);

}  // namespace herberge::loader::windows
