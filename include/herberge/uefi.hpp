// SPDX-License-Identifier: MIT
// UEFI firmware: its variables, its boot options, and what it would start.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/bytes.hpp>
#include <herberge/fields.hpp>
#include <herberge/finding.hpp>
#include <herberge/pe.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

struct UefiVariable {
    std::string name;  ///< "BootOrder"
    std::string guid;  ///< vendor, lower case
    std::uint32_t attributes = 0;
    std::vector<std::uint8_t> data;
};

/// The variables of one machine.
struct UefiVariables {
    std::vector<UefiVariable> all;
    std::string source;  ///< the file they came from; empty: none were given
    std::vector<Finding> findings;

    [[nodiscard]] bool given() const { return !source.empty(); }
    /// A variable of the specification's own vendor unless `guid` says otherwise; null: absent.
    [[nodiscard]] const UefiVariable* find(std::string_view name, std::string_view guid = global) const;
    static constexpr std::string_view global = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
    static constexpr std::string_view security = "d719b2cb-3d3a-4596-a3bc-dad00e67656f";
};

/// Reads a flash image's variable store (firmware volume with an authenticated or an older store; deleted and
/// superseded variables are left out), or a directory with a file per variable as Linux shows them. Errors: NotFound,
/// Malformed.
[[nodiscard]] Result<UefiVariables> read_uefi_variables(const std::string& path);
/// The same from the bytes of a flash image.
[[nodiscard]] Result<UefiVariables> parse_uefi_flash(std::span<const std::uint8_t> flash);

/// One node of a device path, decoded (UEFI specification 2.10, section 10.3).
struct DevicePathNode {
    std::uint8_t type = 0;
    std::uint8_t subtype = 0;
    std::string text;  ///< "HD(1,GPT,…)", "\EFI\almhof\grubx64.efi"
    // hard drive
    std::optional<std::uint32_t> partition;
    std::string signature;  ///< GPT: the partition's GUID; MBR: the disk signature in eight digits
    // file
    std::optional<std::string> file;
};
/// The nodes up to the end node; `whole` is false when the path has no end node or a node that does not fit.
struct DevicePath {
    std::vector<DevicePathNode> nodes;
    bool whole = false;
    [[nodiscard]] std::string text() const;
};
[[nodiscard]] DevicePath decode_device_path(std::span<const std::uint8_t> bytes);
/// The same, field by field; `at` is added to each offset. A node that does not fit is the last field.
[[nodiscard]] std::vector<Field> annotate_device_path(std::span<const std::uint8_t> bytes, std::uint64_t at = 0);

struct UefiBootOption {
    std::uint16_t number = 0;
    std::string description;
    bool active = true;
    bool hidden = false;
    DevicePath path;
    std::vector<std::uint8_t> optional_data;
    bool whole = true;  ///< its lengths fit
};

/// The text that an option hands to its application: UTF-16 up to a zero. Empty: it is none.
[[nodiscard]] std::string load_option_text(std::span<const std::uint8_t> optional_data);

/// A variable taken apart; offsets count from the start of its data.
struct VariableView {
    std::string kind;           ///< "load option", "signature lists", "device path" …; empty: its form is not known
    std::string attributes;     ///< "non-volatile, boot services, run time"
    std::vector<Field> fields;  ///< empty when its form is not known
};
[[nodiscard]] VariableView view_variable(const UefiVariable& variable);

/// The options in the order in which the firmware tries them: BootNext, then BootOrder; numbers without a variable are
/// skipped.
[[nodiscard]] std::vector<UefiBootOption> boot_options(const UefiVariables& variables);

/// The machine as it is once the firmware has looked at its disks: a GPT whose primary copy is bad is mended from its
/// backup (which open firmware writes to the disk at every start).
[[nodiscard]] Machine after_uefi_firmware(const Machine& machine);

/// The FAT volumes that the firmware opens, by its own rules for tables: the types do not matter, attribute bit 1 does.
/// `view` is the machine as the firmware sees it.
struct UefiVolumes {
    Machine view;
    std::vector<VolumeRef> volumes;
    std::vector<Finding> findings;  ///< why tables were refused
};
[[nodiscard]] UefiVolumes uefi_volumes(const Machine& machine);

/// What the firmware itself runs as: 32-bit firmware is found on tablets and small machines with 64-bit processors.
enum class EfiMachine : std::uint8_t { X64, Ia32, Arm64, Arm, Riscv64 };

/// One row of the table of processors that UEFI firmware runs on.
struct EfiMachineRow {
    EfiMachine machine;
    Processor processor;        ///< what Linux' programs are made for
    std::uint16_t image;        ///< in the head of its applications (UEFI specification 2.10, section 3.5.1.1)
    std::string_view fallback;  ///< the file that the firmware takes where no option names one
    std::string_view suffix;    ///< of its loaders' names: "x64" in grubx64.efi
    std::string_view grub;      ///< GRUB's name for the platform
    std::string_view words;     ///< for people: "64-bit PC"
};
[[nodiscard]] std::span<const EfiMachineRow> efi_machines();
[[nodiscard]] const EfiMachineRow& efi_machine(EfiMachine machine);
/// The first row of a processor: of a PC's, the 64-bit one.
[[nodiscard]] const EfiMachineRow& efi_machine_for(Processor processor);
/// The row of images with this number in their heads; null: none.
[[nodiscard]] const EfiMachineRow* efi_machine_of_image(std::uint16_t image);

/// Why the firmware's own loader does not start an image; none: it does. `screen` is the status word it prints.
struct ImageRefusal {
    std::string why;
    std::string screen;    ///< "Not Found", "Unsupported", "Load Error"
    bool crashes = false;  ///< it is entered, and `screen` is the exception that ends the firmware
};
[[nodiscard]] std::optional<ImageRefusal> refuse_efi_image(const ByteSource& file,
                                                           EfiMachine machine = EfiMachine::X64);
/// The file that the firmware takes where no option names one (UEFI specification 2.10, section 3.5.1.1).
[[nodiscard]] std::string_view efi_fallback_path(EfiMachine machine);
/// The same for processors that have no row: path and processor.
[[nodiscard]] std::span<const std::pair<std::string_view, std::string_view>> other_fallback_names();
/// The path is that of a file which the fallback rule starts: "/EFI/BOOT/BOOT….EFI" (as shim.c,
/// is_removable_media_path).
[[nodiscard]] bool efi_is_fallback_place(std::string_view path);

/// What an EFI application is, judged by its own sections and words.
enum class EfiApplication : std::uint8_t {
    Unknown,
    Grub,
    SystemdBoot,
    Shim,
    WindowsBootManager,
    LinuxStub,
    UnifiedKernel
};
[[nodiscard]] EfiApplication identify_efi_application(const ByteSource& file);
[[nodiscard]] std::string_view efi_application_name(EfiApplication kind);

}  // namespace herberge
