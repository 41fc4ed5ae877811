// SPDX-License-Identifier: MIT
// What GRUB sees of the machine: devices, files, modules.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/loader.hpp>

#include "loader/grub/elf_module.hpp"

namespace herberge::grub {

/// A device name that exists: a disk or one of its volumes.
struct Device {
    const Disk* disk = nullptr;
    VolumeRef volume;    ///< null: the disk as a whole
    std::string unread;  ///< GRUB makes it from what is recognised and not read here: from what; then `disk` is null
};

/// The modules loaded so far. Copied for each entry that is tried.
struct Modules {
    std::set<std::string, std::less<>> loaded;
    std::set<std::string, std::less<>> symbols;                  ///< what the loaded ones define
    std::set<std::string, std::less<>> words;                    ///< texts in them: names of commands among them
    std::map<std::string, std::uint32_t, std::less<>> features;  ///< that the loaded file system drivers let pass
    std::set<VolumeRef> asked;  ///< encrypted volumes that cryptomount opened: somebody typed the key
};

/// A file GRUB opened or failed to open.
struct Opened {
    Source source;  ///< null when it failed
    VolumeRef volume;
    Resolved resolved;
    std::string message;  ///< GRUB's own words when it failed, without "error: "
    std::string place;    ///< "d1p1:/boot/x" where a device was found
    std::string because;  ///< of an unknown file system: ": " and what its driver does not take; empty: nothing to add
    enum class Failure : std::uint8_t {
        None,
        Device,
        FileSystem,
        File,
        Read,
        Unread,  ///< GRUB might well open it: it lies in what is not read here; `message` says in what
    } failure = Failure::None;
};

/// How a message about a module that was not loaded counts.
inline LoaderMessage::Kind module_kind(const Error& problem) {
    return problem.kind == ErrorKind::NotFound ? LoaderMessage::Kind::Module : LoaderMessage::Kind::Other;
}

/// What all scripts of one start may cost together.
struct ScriptBudget {
    std::size_t steps = 400'000;
    std::size_t bytes = std::size_t{32} << 20U;  ///< of words after their variables are put in
    [[nodiscard]] bool spent() const { return steps == 0 || bytes == 0; }
};

class World {
public:
    World(const Machine& machine, int first_drive, std::string platform)
        : machine_(machine), first_drive_(first_drive), platform_(std::move(platform)) {}

    [[nodiscard]] const Machine& machine() const { return machine_; }
    [[nodiscard]] const std::string& platform() const { return platform_; }

    /// "hd0", "hd0,msdos1", "hd0,1".
    [[nodiscard]] std::optional<Device> device(std::string_view name, const Modules& modules) const;
    /// What GRUB says of a device that it does not find: the disk may be there without the partition (kern/disk.c).
    [[nodiscard]] std::string no_device(std::string_view name, const Modules& modules) const;
    /// The volume of a device; without a number behind it, the disk as one volume. Null: there is none.
    [[nodiscard]] VolumeRef volume_of(const Device& device) const;
    /// The name GRUB gives a volume: "hd0,msdos1".
    [[nodiscard]] std::string name_of(const Volume& volume) const;
    /// All devices in the order in which `search` visits them: each disk, then its partitions from the last one.
    [[nodiscard]] std::vector<std::pair<std::string, Device>> search_order(const Modules& modules) const;
    /// Whether a file system driver for this volume is at hand (and its features are within GRUB's reach).
    [[nodiscard]] bool readable(const Volume& volume, const Modules& modules) const;
    /// Features for which the driver that is at hand refuses this volume; empty: none.
    [[nodiscard]] std::vector<std::string> refused_features(const Volume& volume, const Modules& modules) const;
    /// The same as a clause behind a statement: ": GRUB's driver does not take ext4 with …"; empty: none.
    [[nodiscard]] std::string refusal_clause(const Volume& volume, const Modules& modules) const;
    /// A file system that GRUB has a driver at hand for, and that is not read here.
    [[nodiscard]] bool unread(const Volume& volume, const Modules& modules) const;
    /// Volumes that this GRUB could find something in, and that are not looked into here; empty: none. `files`: also
    /// such whose own identifiers are known.
    [[nodiscard]] std::string unread_places(const Modules& modules, bool files) const;
    /// GRUB has the module that reads this encrypted volume's header.
    [[nodiscard]] bool reads_encrypted(const Volume& volume, const Modules& modules) const;
    /// A device name for something that lies in one of them.
    [[nodiscard]] std::string unread_device(std::string what) const;
    /// `path` is "(device)/file" or "/file" below `root`. Packed files are unpacked when the module for it is loaded,
    /// unless `as_stored`.
    [[nodiscard]] Opened open(std::string_view path, std::string_view root, const Modules& modules,
                              bool as_stored = false) const;

    /// Names that the core's kernel exports; a name is exported if it stands as a whole string in the image.
    void set_kernel(std::span<const std::uint8_t> kernel);
    /// Loads a module and what it depends on from `prefix`. None: it is loaded; else GRUB's words in `what`, and a
    /// kind: Unreadable, Unsupported (no file system that GRUB reads), NotFound, Malformed.
    std::optional<Error> load_module(std::string_view name, std::string_view prefix, Modules& modules) const;
    /// The module that provides a command, by command.lst; empty: none.
    [[nodiscard]] std::string module_of_command(std::string_view command) const;
    /// Whether a command can be there that command.lst does not name: a module that is loaded has it; or what that file
    /// says is not known.
    [[nodiscard]] bool may_have(std::string_view command, const Modules& modules) const {
        return !lists_known_ || modules.words.contains(command);
    }
    /// The list of them that the medium does not give all of; empty: none.
    [[nodiscard]] const std::string& lost_list() const { return lost_list_; }
    /// Reads command.lst and fs.lst below `prefix`, as normal mode does at its start.
    void read_lists(std::string_view prefix, const Modules& modules);
    /// Normal mode reads them again where a script gives `prefix` another value (grub-core/normal/main.c,
    /// read_lists_hook).
    void prefix_was_set(std::string_view prefix, const Modules& modules) {
        constexpr int most = 64;  // a script may set it without end
        if (lists_read_ > 0 && prefix != list_prefix_ && lists_read_ < most) read_lists(prefix, modules);
    }
    /// The memory disk that an image carries, as the device "memdisk": a file system, or a tar archive.
    void set_memory_disk(const std::vector<std::uint8_t>& bytes);
    void set_verifier(KernelVerifier verifier) { verifier_ = std::move(verifier); }
    /// shim's protocol is there, by which it has each kernel verified.
    [[nodiscard]] bool verifies() const { return verifier_ != nullptr; }
    /// Why a kernel may not be started under Secure Boot; none: it may.
    [[nodiscard]] std::optional<std::string> refuse_kernel(const ByteSource& kernel) const {
        return verifier_ ? verifier_(kernel) : std::nullopt;
    }
    /// No module files are looked for: every command is taken to be there.
    void assume_all_modules() { all_modules_ = true; }
    [[nodiscard]] const std::set<std::string>& looked_up() const { return looked_up_; }
    [[nodiscard]] ScriptBudget& budget() const { return budget_; }

private:
    [[nodiscard]] bool driver_at_hand(std::string_view driver, const Modules& modules) const;
    /// The modules after normal mode loaded this file system driver by itself; none: it does not.
    [[nodiscard]] std::optional<Modules> autoloaded(std::string_view driver, const Modules& modules) const;
    [[nodiscard]] bool opens(const Volume& volume, const Modules& modules) const;
    [[nodiscard]] bool layer_at_hand(const VolumeRef& volume, const Modules& modules) const;
    [[nodiscard]] std::optional<Device> layered_device(std::string_view name, const Modules& modules) const;
    [[nodiscard]] Source unpacked(const Source& file, const Modules& modules) const;
    std::optional<Error> load_one(std::string_view name, std::string_view prefix, Modules& modules, int depth) const;

    const Machine& machine_;
    int first_drive_;
    std::string platform_;
    bool all_modules_ = false;
    std::set<std::string, std::less<>> kernel_symbols_;
    bool lists_known_ = false;  ///< command.lst was read as far as GRUB can, or is known not to be there
    std::string lost_list_;     ///< a list that the medium does not give all of; empty: none
    std::map<std::string, std::string, std::less<>> command_modules_;
    std::set<std::string, std::less<>> file_system_modules_;
    std::string list_prefix_, first_prefix_;  ///< of the lists that were read last, and first
    int lists_read_ = 0;
    mutable bool autoloading_ = false;
    KernelVerifier verifier_;
    std::optional<Disk> memory_disk_;
    std::map<std::string, Source, std::less<>> memory_files_;  ///< of a tar archive
    mutable std::map<std::string, Result<Module>, std::less<>> module_files_;
    mutable std::set<std::string> looked_up_;
    mutable std::vector<std::string> unread_devices_;
    mutable ScriptBudget budget_;
};

}  // namespace herberge::grub
