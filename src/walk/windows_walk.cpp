// SPDX-License-Identifier: MIT
// From an entry that names a Windows system to what must be running.
#include "walk/step.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <set>

#include <herberge/hive.hpp>
#include <herberge/pe.hpp>
#include <herberge/signature.hpp>

#include "bytes/lost.hpp"
#include "system/signed_files.hpp"
#include "system/windows.hpp"
#include "system/windows_commands.hpp"
#include "system/windows_state.hpp"
#include "walk/lost.hpp"

namespace herberge::walk {

namespace {

constexpr std::size_t most_images = 600;

std::string backslashes(std::string_view path) {
    std::string out(path);
    std::ranges::replace(out, '/', '\\');
    return out;
}

bool is_driver(const WindowsService& s) { return s.type == 1 || s.type == 2; }

/// How a file is, for the loader that maps it.
struct ImageState {
    enum class Kind : std::uint8_t {
        Sound,
        Missing,
        NoImage,
        Cut,
        Checksum,
        Signature,
        Machine,
        Unreadable
    } kind = Kind::Sound;
    std::string status;  ///< the error number shown
    std::string text;
    PeImage image;
};

class WindowsWalk {
public:
    WindowsWalk(const MenuEntry& entry, const Menu& menu, Ladder& ladder)
        : entry_(entry), menu_(menu), ladder_(ladder), start_(entry.windows ? *entry.windows : WindowsStart{}) {}

    void run() {
        if (!entry()) return;
        fs_ = start_.system->files(Observer::Nt);
        if (!kernel()) return;
        if (start_.image)
            ladder_.set(Stage::Ramdisk, State::Holds,
                        fmt::format("{} becomes the RAM disk that the system lies in", start_.image->place),
                        {evidence_place(start_.image->place, {}, size_text(start_.image->size))});
        else ladder_.set(Stage::Ramdisk, State::NotNeeded, "Windows starts without one");
        if (!root()) return;
        if (!init()) return;
        services();
    }

private:
    [[nodiscard]] Evidence entry_line() const {
        return entry_.line > 0 ? evidence_line(entry_.place, entry_.line, {}, entry_.title)
                               : evidence_place(entry_.place, {}, entry_.title + " " + entry_.id);
    }
    [[nodiscard]] std::string place(std::string_view path) const {
        return fmt::format("{}:{}", start_.system->place, path);
    }
    [[nodiscard]] bool older() const { return start_.generation == 5; }

    /// What the screen says about a file, which differs by generation.
    [[nodiscard]] std::string screen(std::string_view path, std::string_view status, std::string_view what = {}) const {
        if (older())
            return fmt::format(
                "Windows could not start because the following file is missing or corrupt:\n{}\nPlease re-install a "
                "copy of the above file.",
                lower_text(path).starts_with(lower_text(start_.directory) + "/system32/config")
                    ? backslashes(path)
                    : "<Windows root>" + backslashes(path.substr(std::min(start_.directory.size(), path.size()))));
        return fmt::format("File: {}\nStatus: {}{}{}", backslashes(path), status, what.empty() ? "" : "\nInfo: ", what);
    }

    bool entry() {
        if (entry_.stop) {
            std::vector<Evidence> evidence{entry_line()};
            evidence.insert(evidence.end(), entry_.stop->evidence.begin(), entry_.stop->evidence.end());
            ladder_.breaks(entry_.stop->code, entry_.stop->text, std::move(evidence), entry_screen(entry_, menu_));
            return false;
        }
        if (!entry_.unread.empty()) {
            ladder_.set(Stage::Entry, State::Unknown,
                        fmt::format("what “{}” starts cannot be looked at: {}", entry_.title, entry_.unread),
                        {entry_line()});
            return false;
        }
        auto fails = [&](Code code, std::string text, std::string shown) {
            ladder_.breaks(code, std::move(text), {entry_line()}, std::move(shown));
            return false;
        };
        if (start_.system == nullptr)
            return fails(
                Code::StoreDeviceGone,
                fmt::format("“{}” has its system on {}, and nothing here answers to that", entry_.title,
                            start_.system_device),
                "Status: 0xc000000e\nInfo: The boot selection failed because a required device is inaccessible.");
        const auto* fs = start_.system->files(Observer::Nt);
        if (fs == nullptr)
            return fails(Code::StoreDeviceUnreadable,
                         fmt::format("“{}” has its system on {}, whose file system cannot be read", entry_.title,
                                     start_.system->place),
                         "Status: 0xc000000e");
        const auto directory = resolve(*fs, start_.directory);
        if (!directory && directory.error().unreadable())
            return fails(Code::WindowsDirectoryUnreadable,
                         fmt::format("“{}” has its system in {}, which cannot be read: {}", entry_.title,
                                     place(start_.directory), directory.error().what),
                         older() ? screen(start_.directory + "/system32/ntoskrnl.exe", "")
                                 : screen(start_.directory + "/system32/config/system", "0xc0000185"));
        if (!directory)
            return fails(
                Code::WindowsDirectoryMissing,
                fmt::format("“{}” has its system in {}, which is not there", entry_.title, place(start_.directory)),
                older() ? screen(start_.directory + "/system32/ntoskrnl.exe", "")
                        : screen(start_.directory + "/system32/config/system", "0xc000000f"));
        std::string text = fmt::format("“{}” resolves: {}", entry_.title, place(start_.directory));
        std::vector<Evidence> evidence{entry_line()};
        if (!older()) {
            text = fmt::format("“{}” resolves: {}, system in {}", entry_.title, start_.loader.place,
                               place(start_.directory));
            evidence.push_back(evidence_place(start_.loader.place, {}, size_text(start_.loader.size)));
        }
        if (!menu_.default_matches)
            ladder_.add_finding(make_finding(
                Code::EntryDefaultUnmatched,
                fmt::format("the default “{}” names no entry; the first one is used", menu_.default_setting),
                {evidence_place(menu_.place)}));
        if (start_.safe_mode)
            ladder_.add_finding(make_finding(Code::WindowsSafeMode,
                                             fmt::format("“{}” starts in safe mode", entry_.title), {entry_line()}));
        ladder_.set(Stage::Entry, State::Holds, std::move(text), std::move(evidence));
        return true;
    }

    ImageState image(const FileSystem& fs, const std::string& volume, const std::string& path, bool checksum) {
        const std::string key = volume + lower_text(path) + (checksum ? "+" : "");
        if (const auto known = images_.find(key); known != images_.end()) return known->second;
        ImageState out = judge_image(fs, volume, path, checksum);
        if (images_.size() < most_images) images_.emplace(key, out);
        return out;
    }

    [[nodiscard]] ImageState judge_image(const FileSystem& fs, const std::string& volume, const std::string& path,
                                         bool checksum) const {
        const auto found = resolve(fs, path);
        if (!found && found.error().unreadable())
            return {ImageState::Kind::Unreadable, "0xc0000185", "it cannot be read: " + found.error().what, {}};
        if (!found) return {ImageState::Kind::Missing, "0xc000000f", "it is not there", {}};
        const auto source = fs.open(found->file.id, volume + ":" + path);
        if (!source && source.error().kind == ErrorKind::Unsupported)
            return {};  // encrypted or packed beyond this reader: there
        if (!source)
            return {ImageState::Kind::Unreadable, "0xc0000185", "it cannot be read: " + source.error().what, {}};
        auto image = inspect_pe(**source);
        if (!image) {
            const auto kind = image.error().kind;
            if (kind == ErrorKind::Unreadable || kind == ErrorKind::Io)
                return {ImageState::Kind::Unreadable, "0xc0000185", "it cannot be read: " + image.error().what, {}};
            return {ImageState::Kind::NoImage, "0xc000007b", "it is no image: " + image.error().what, {}};
        }
        if (!image->complete)
            return {ImageState::Kind::Cut, "0xc0000221",
                    fmt::format("it is cut short: {} of {} bytes", (*source)->size(), image->end), *image};
        if (checksum) {
            const auto sum = pe_checksum(**source);
            if (!sum)
                return {ImageState::Kind::Unreadable, "0xc0000185", "it cannot be read: " + sum.error().what, *image};
            if (image->stored_checksum != 0 && *sum != image->stored_checksum)
                return {ImageState::Kind::Checksum, "0xc0000221",
                        fmt::format("its checksum is {:08x}, its header says {:08x}", *sum, image->stored_checksum),
                        *image};
            // The checksum is judged before the signature. Unsigned files may be signed by a catalogue; a signature of
            // other content is none.
            if (!start_.no_integrity_checks && image->signed_inside() && image->wide)
                if (const auto signatures = image_signatures(**source);
                    !signatures.empty() && std::ranges::none_of(signatures, [](const ImageSignature& s) {
                        return s.digest_matches && s.intact;
                    }))
                    return {ImageState::Kind::Signature, "0xc0000428",
                            "its content is not what its signature was made for", *image};
        }
        return {ImageState::Kind::Sound, {}, {}, *image};
    }

    ImageState own_image(const std::string& path, bool checksum) {
        return image(*fs_, start_.system->place, path, checksum);
    }

    bool kernel_breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string shown) {
        ladder_.breaks(code, std::move(text), std::move(evidence), std::move(shown));
        return false;
    }

    /// The OS loader itself: an entry starts it, and it loads everything else.
    bool os_loader() {
        const auto& loader = start_.loader;
        const auto* fs = loader.volume->files(Observer::WindowsLoader);
        if (fs == nullptr) {
            const auto problem = loader.volume->problem(Observer::WindowsLoader);
            ladder_.set(
                Stage::Kernel, State::Unknown,
                fmt::format("the files of {} cannot be read{}", loader.volume->place,
                            problem ? ": " + problem->what : ""),
                problem ? std::vector{evidence_error(*problem)} : std::vector{evidence_place(loader.volume->place)});
            return false;
        }
        auto state = image(*fs, loader.volume->place, loader.real_path, true);
        const bool efi_name = lower_text(loader.real_path).ends_with(".efi");
        if (state.kind == ImageState::Kind::Sound && efi_name != entry_.windows_efi)
            state = {ImageState::Kind::NoImage, "0xc000007b",
                     fmt::format("it is the loader for the other kind of firmware ({})", efi_name ? "UEFI" : "BIOS"),
                     state.image};
        if (state.kind == ImageState::Kind::Sound && state.image.wide && !start_.no_integrity_checks &&
            !start_.test_signing)
            if (const auto why = unsigned_loader(*fs, loader))
                state = {ImageState::Kind::Signature, "0xc0000428", *why, state.image};
        if (state.kind == ImageState::Kind::Sound) return true;
        return kernel_breaks(Code::WindowsOsLoader,
                             fmt::format("the system's loader {} cannot be started: {}", loader.place, state.text),
                             {evidence_place(loader.place, "a sound image", state.text)},
                             screen(loader.written, state.status));
    }

    /// The boot manager accepts a 64-bit loader only with a signature inside, made under the roots it trusts itself.
    [[nodiscard]] std::optional<std::string> unsigned_loader(const FileSystem& fs, const FileReference& loader) const {
        const auto source = fs.open(loader.file, loader.place);
        if (!source) return std::nullopt;
        const auto signatures = image_signatures(**source);
        if (signatures.empty()) return "it is not signed";
        const auto roots = manager_roots();
        if (roots.empty()) return std::nullopt;
        for (const auto& signature : signatures)
            if (signature.root.find("Microsoft") != std::string::npos ||
                std::ranges::find(roots, signature.root) != roots.end())
                return std::nullopt;
        return fmt::format("its signer ({}) is not under the root that signed the boot manager",
                           signatures.front().chain.empty() ? "unknown" : signatures.front().chain.front().subject);
    }

    /// The roots under which the boot manager beside the store is signed.
    [[nodiscard]] std::vector<std::string> manager_roots() const {
        std::vector<std::string> out;
        const auto& volume = start_.boot_volume;
        const auto* fs = volume == nullptr ? nullptr : volume->files(Observer::WindowsLoader);
        if (fs == nullptr) return out;
        for (const char* path : {"/EFI/Microsoft/Boot/bootmgfw.efi", "/EFI/BOOT/BOOTX64.EFI"}) {
            const auto found = resolve(*fs, path);
            const auto source = found ? fs->open(found->file.id, path) : fail(ErrorKind::NotFound, "none");
            if (!source) continue;
            for (const auto& signature : image_signatures(**source))
                if (!signature.root.empty()) out.push_back(signature.root);
        }
        return out;
    }

    /// The boot loader reads language files as a whole.
    bool code_page(const std::string& path) {
        const auto found = resolve(*fs_, path);
        const auto file = found ? fs_->open(found->file.id, place(path)) : tl::unexpected(found.error());
        std::optional<Error> problem;
        if (!file) problem = file.error();
        else if (const auto bytes = (*file)->bytes(0, (*file)->size()); !bytes) problem = bytes.error();
        if (problem && problem->unreadable())
            return kernel_breaks(Code::WindowsCodePageUnreadable,
                                 fmt::format("the language file {} cannot be read", place(path)),
                                 {evidence_error(*problem)}, screen(path, "0xc0000185"));
        if (found) return true;
        return kernel_breaks(Code::WindowsCodePageMissing,
                             fmt::format("the language file {} is not there", place(path)),
                             {evidence_place(place(path), "a file", "absent")}, screen(path, "0xc000000f"));
    }

    bool kernel() {
        if (!older() && !os_loader()) return false;
        registry_ = read_windows_registry(*start_.system, start_.directory);
        const std::string hive_path = start_.directory + "/System32/config/SYSTEM";
        if (!registry_) {
            const auto& error = registry_.error();
            const bool missing = error.kind == ErrorKind::NotFound;
            return kernel_breaks(
                Code::WindowsSystemHive,
                fmt::format("the registry hive {} cannot be {}: {}", place(hive_path),
                            error.unreadable() ? "read" : "used", error.what),
                {evidence_error(error)},
                screen(start_.directory + "/system32/config/system",
                       missing              ? "0xc000000f"
                       : error.unreadable() ? "0xc0000185"
                                            : "0xc000014c",
                       "The operating system couldn't be loaded because the system registry file is missing or "
                       "contains errors."));
        }
        for (auto finding : registry_->findings) ladder_.add_finding(std::move(finding));
        if (registry_->failed != 0)
            ladder_.add_finding(make_finding(
                Code::WindowsControlSetFailed,
                fmt::format("a start with control set {} failed before; {} is used now", registry_->failed,
                            registry_->control_set),
                {evidence_place(place(hive_path), {}, fmt::format("Select\\Failed = {}", registry_->failed))}));
        const std::string system32 = start_.directory + "/System32/";
        const std::string kernel_file = system32 + (start_.kernel_name.empty() ? "ntoskrnl.exe" : start_.kernel_name);
        const std::string hal_file = system32 + (start_.hal_name.empty() ? "hal.dll" : start_.hal_name);
        std::uint16_t machine = 0;
        for (const auto& [file, what] : {std::pair(kernel_file, "kernel"), std::pair(hal_file, "HAL")}) {
            const auto state = own_image(file, true);
            if (state.kind != ImageState::Kind::Sound)
                return kernel_breaks(
                    state.kind == ImageState::Kind::Missing ? Code::WindowsKernelMissing : Code::WindowsKernelDamaged,
                    fmt::format("the {} {} cannot be loaded: {}", what, place(file), state.text),
                    {evidence_place(place(file), "a sound image", state.text)},
                    screen(file, state.status,
                           fmt::format("Windows failed to load because the {} is missing, or corrupt.", what)));
            if (machine == 0) machine = state.image.machine;
        }
        if (!imports_of(kernel_file, machine) || !imports_of(hal_file, machine)) return false;
        for (const auto& page : registry_->code_pages)
            if (!code_page(system32 + page)) return false;
        std::size_t drivers = 0;
        for (const auto& service : registry_->services) {
            if (service.start != 0 || !is_driver(service)) continue;
            ++drivers;
            if (!boot_driver(service, machine)) return false;
        }
        ladder_.set(Stage::Kernel, State::Holds,
                    fmt::format("kernel, HAL and what they import are sound; {} at boot {} there ({})",
                                drivers == 1 ? std::string("the one driver that starts")
                                             : fmt::format("{} drivers that start", drivers),
                                drivers == 1 ? "is" : "are", registry_->control_set),
                    {evidence_place(place(kernel_file), {}, "a sound image"),
                     evidence_place(place(hive_path), {}, registry_->control_set)});
        return true;
    }

    /// Everything an image imports must be there; imports of imports, too.
    bool imports_of(const std::string& file, std::uint16_t machine) {
        std::vector<std::string> pending{file};
        while (!pending.empty()) {
            const std::string here = pending.back();
            pending.pop_back();
            if (!followed_.insert(lower_text(here)).second || followed_.size() > most_images) continue;
            const auto state = own_image(here, true);
            for (const auto& name : state.image.imports) {
                const auto needed = find_import(name);
                if (needed.empty()) {
                    const std::string path = start_.directory + "/System32/" + name;
                    return kernel_breaks(Code::WindowsImportMissing,
                                         fmt::format("{} imports {}, which is not there", place(here), name),
                                         {evidence_place(place(path), "a file", "absent")},
                                         screen(path, "0xc000000f", "a required file is missing or corrupt"));
                }
                const auto loaded = own_image(needed, true);
                if (loaded.kind != ImageState::Kind::Sound ||
                    (machine != 0 && loaded.image.machine != 0 && loaded.image.machine != machine))
                    return kernel_breaks(
                        Code::WindowsImportDamaged,
                        fmt::format("{} imports {}, which cannot be loaded: {}", place(here), place(needed),
                                    loaded.text.empty() ? "it is for another processor" : loaded.text),
                        {evidence_place(place(needed), "a sound image", loaded.text)},
                        screen(needed, loaded.status.empty() ? "0xc000007b" : loaded.status));
                pending.push_back(needed);
            }
        }
        return true;
    }

    [[nodiscard]] std::string find_import(const std::string& name) const {
        // API sets are names without files of their own on newer systems.
        const std::string small = lower_text(name);
        if (small.starts_with("ext-ms-") || small.starts_with("api-ms-"))
            return start_.directory + "/System32/ntoskrnl.exe";
        for (const char* folder : {"/System32/", "/System32/drivers/"}) {
            std::string path = start_.directory + folder + name;
            // One that cannot be read is there, and what is wrong with it shows when it is loaded.
            if (const auto found = resolve(*fs_, path); found || found.error().unreadable()) return path;
        }
        return {};
    }

    /// A driver without a signature inside must be listed by a catalogue of the installation, on 64-bit systems. Only
    /// where the catalogues are known to be those that count (another boot driver is found in them) does its absence
    /// tell.
    std::optional<std::string> unsigned_driver(const WindowsService& service) {
        if (!signed_) signed_ = std::make_unique<SignedFiles>(*fs_, start_.directory, start_.system->place);
        const auto open = [&](const std::string& path) -> Source {
            const auto found = resolve(*fs_, path);
            auto source = found ? fs_->open(found->file.id, place(path)) : fail(ErrorKind::NotFound, "none");
            return source ? *source : nullptr;
        };
        const auto image = open(service.file);
        if (image == nullptr || signed_->of(*image).kind != FileSignature::Kind::None || signed_->catalogues() == 0)
            return std::nullopt;
        const bool catalogues_count = std::ranges::any_of(registry_->services, [&](const WindowsService& other) {
            if (other.start != 0 || !is_driver(other) || other.file.empty() || &other == &service) return false;
            const auto source = open(other.file);
            return source != nullptr && signed_->of(*source).kind == FileSignature::Kind::Catalogue;
        });
        if (!catalogues_count) return std::nullopt;
        return fmt::format("it is not signed: nothing inside, and none of {} catalogues lists it",
                           signed_->catalogues());
    }

    bool boot_driver(const WindowsService& service, std::uint16_t machine) {
        if (service.file.empty()) return true;
        auto state = own_image(service.file, true);
        if (state.kind == ImageState::Kind::Sound && machine != 0 && state.image.machine != 0 &&
            state.image.machine != machine)
            state = {ImageState::Kind::Machine, "0xc000007b",
                     fmt::format("it is for {}", pe_machine_name(state.image.machine)), state.image};
        if (state.kind == ImageState::Kind::Sound && state.image.wide && !older() && !state.image.signed_inside() &&
            !start_.no_integrity_checks && !start_.test_signing)
            if (const auto why = unsigned_driver(service))
                state = {ImageState::Kind::Signature, "0xc0000428", *why, state.image};
        if (state.kind == ImageState::Kind::Sound)
            return state.image.imports.empty() || imports_of(service.file, machine);
        const std::string text = fmt::format("the driver {} ({}) starts at boot and cannot be loaded: {}", service.name,
                                             place(service.file), state.text);
        const auto evidence = evidence_place(place(service.file), "a sound image", state.text);
        // The loader gives up on severe and critical ones only.
        if (service.error_control < 2) {
            ladder_.add_finding(
                make_finding(Code::WindowsDriverSkipped, text + "; its ErrorControl lets the start go on", {evidence}));
            return true;
        }
        return kernel_breaks(
            state.kind == ImageState::Kind::Missing ? Code::WindowsBootDriverMissing : Code::WindowsBootDriverDamaged,
            text, {evidence},
            screen(service.file, state.status,
                   "Windows failed to load because a critical system driver is missing, or corrupt."));
    }

    [[nodiscard]] const WindowsService* service(std::string_view name) const {
        const auto found = std::ranges::find_if(
            registry_->services, [&](const WindowsService& s) { return lower_text(s.name) == lower_text(name); });
        return found != registry_->services.end() ? &*found : nullptr;
    }

    [[nodiscard]] bool at_boot(const WindowsService& s) const {
        if (s.start != 0 || !is_driver(s) || s.file.empty()) return false;
        const auto found = resolve(*fs_, s.file);
        return found || found.error().unreadable();
    }

    bool no_root(Code code, std::string text, std::string key) {
        ladder_.breaks(code, std::move(text),
                       {evidence_place(place(start_.directory + "/System32/config/SYSTEM"), {}, std::move(key))},
                       older() ? "*** STOP: 0x0000007B" : "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE");
        return false;
    }

    /// A RAM disk needs its own driver, and none for disks.
    bool root_in_memory() {
        const std::string driver = start_.directory + "/System32/drivers/ramdisk.sys";
        const auto state = own_image(driver, false);
        if (state.kind != ImageState::Kind::Sound)
            return no_root(
                Code::WindowsStorageDriver,
                fmt::format("the driver of RAM disks ({}) cannot run: {}: the system's own files are not found",
                            place(driver), state.text),
                registry_->control_set + "\\Services");
        ladder_.set(Stage::Root, State::Holds,
                    fmt::format("the driver of RAM disks is there; {} is readable", start_.system->place),
                    {evidence_place(place(driver), {}, "a sound image")});
        return true;
    }

    /// The drivers between the kernel and its own volume.
    bool root() {
        const auto fails = [&](Code code, std::string text) {
            return no_root(code, std::move(text), registry_->control_set + "\\Services");
        };
        if (start_.image) return root_in_memory();
        std::vector<std::string_view> needed{"disk", "partmgr"};
        if (!older()) needed.emplace_back("volmgr");
        for (const auto name : needed) {
            const auto* s = service(name);
            // Older systems lack some of these keys altogether.
            if (s == nullptr && older()) continue;
            if (s == nullptr)
                return fails(Code::WindowsStorageDriver,
                             fmt::format("the driver {} has no service key: the system's volume is not found", name));
            if (!at_boot(*s))
                return fails(
                    Code::WindowsStorageDriver,
                    fmt::format("the driver {} does not start at boot (Start {}): the system's volume is not found",
                                name, s->start));
        }
        const bool controller = std::ranges::any_of(registry_->services, [&](const WindowsService& s) {
            const std::string group = lower_text(s.group);
            return (group == "scsi miniport" || lower_text(s.name) == "stornvme" || lower_text(s.name) == "storvsc" ||
                    lower_text(s.name) == "pciide" || lower_text(s.name) == "intelide") &&
                   at_boot(s);
        });
        if (!controller) {
            std::vector<std::string> off;
            for (const auto& service : registry_->services)
                if (lower_text(service.group) == "scsi miniport")
                    off.push_back(fmt::format("{} has Start {}", service.name, service.start));
            return fails(Code::WindowsNoDiskController,
                         fmt::format("no driver for a disk controller starts at boot: the system's disk is not found{}",
                                     off.empty() ? "" : fmt::format(" ({})", fmt::join(off, ", "))));
        }
        if (!filters()) return false;
        const std::string driver = start_.system->info.format == Format::Ntfs ? "Ntfs" : "fastfat";
        const std::string driver_file = fmt::format("{}/System32/drivers/{}.sys", start_.directory, driver);
        const auto found = resolve(*fs_, driver_file);
        if (!found || lost_of(driver_file))
            return fails(Code::WindowsFileSystemDriver,
                         fmt::format("the file system driver {}.sys {}: the system's volume cannot be mounted", driver,
                                     found || found.error().unreadable() ? "cannot be read" : "is not there"));
        ladder_.set(
            Stage::Root, State::Holds,
            fmt::format("disk, partition and volume drivers, a disk controller's and {} start at boot; {} is readable",
                        driver, start_.system->place),
            {evidence_place(start_.system->place, {}, start_.system->info.name())});
        return true;
    }

    /// A device whose filter cannot be loaded does not start: where that is the system's disk or volume, it is not
    /// found.
    bool filters() {
        for (const auto& filter : registry_->filters) {
            const auto* s = service(filter.service);
            const std::string value = filter.key + (filter.upper ? "\\UpperFilters" : "\\LowerFilters");
            const std::string told = fmt::format("the filter driver {} of {} ", filter.service, filter.device_class);
            std::string problem, risk;
            if (s == nullptr) problem = "has no service key";
            else if (const auto state = s->file.empty() ? ImageState{} : own_image(s->file, false);
                     state.kind != ImageState::Kind::Sound)
                problem = fmt::format("cannot be loaded: {}: {}", place(s->file), state.text);
            else if (s->start != 0) risk = fmt::format("does not start at boot (Start {})", s->start);
            if (!problem.empty() && filter.on_the_way)
                return no_root(Code::WindowsFilterMissing,
                               fmt::format("{}{}: these devices do not start, and the system's volume is not found",
                                           told, problem),
                               value);
            if (problem.empty() && risk.empty()) continue;
            ladder_.add_finding(
                make_finding(Code::WindowsFilterDoubtful, told + (problem.empty() ? risk : problem),
                             {evidence_place(place(start_.directory + "/System32/config/SYSTEM"), {}, value)}));
        }
        return true;
    }

    /// A program that runs after the session manager has done what was put off.
    bool program(Code code, const std::string& path, std::string_view role, std::string_view stop) {
        const auto put_off = renamed_.find(lower_text(path));
        if (put_off != renamed_.end() && put_off->second.empty()) {
            const std::string value =
                registry_->control_set + "\\Control\\Session Manager\\PendingFileRenameOperations";
            ladder_.breaks(
                code,
                fmt::format("{} ({}) is taken away by a rename that was put off until this start", role, place(path)),
                {evidence_place(place(path), "a sound image", "removed before it runs"),
                 evidence_place(place(start_.directory + "/System32/config/SYSTEM"), {}, value)},
                std::string(stop));
            return false;
        }
        const std::string& runs = put_off != renamed_.end() ? put_off->second : path;
        const auto state = own_image(runs, false);
        if (state.kind == ImageState::Kind::Sound) {
            if (auto lost = lost_of(runs)) losses_.emplace_back(runs, std::move(*lost));
            return true;
        }
        ladder_.breaks(code, fmt::format("{} ({}) cannot run: {}", role, place(path), state.text),
                       {evidence_place(place(path), "a sound image", state.text)}, std::string(stop));
        return false;
    }

    /// What the medium does not give of a file of the system's; none: it gives all, or the file cannot be opened.
    [[nodiscard]] std::optional<Error> lost_of(const std::string& path) const {
        const auto found = resolve(*fs_, path);
        const auto file = found ? fs_->open(found->file.id, place(path)) : tl::unexpected(found.error());
        return file ? lost_within(**file) : std::nullopt;
    }

    /// A stage holds; but of the files that it told of, those pages cannot be read that are lost, and who needs one may
    /// die of it.
    void holds_but_for_losses(Stage stage, std::string text, std::vector<Evidence> evidence) {
        State state = State::Holds;
        for (const auto& [path, lost] : losses_) {
            state = State::Unknown;
            text += fmt::format("; but a part of {} cannot be read", place(path));
            evidence.push_back(evidence_error(lost));
        }
        losses_.clear();
        ladder_.set(stage, state, std::move(text), std::move(evidence));
    }

    bool init() {
        const std::string system32 = start_.directory + "/System32/";
        if (!program(Code::WindowsProgramMissing, system32 + "smss.exe", "the session manager",
                     "STOP 0x0000006F SESSION3_INITIALIZATION_FAILED"))
            return false;
        // The letter lies in another hive.
        if (!registry_->renames.empty())
            renamed_ = after_renames(
                registry_->renames,
                WindowsCommands(*fs_, start_.directory, windows_letter(*start_.system, start_.directory)), *fs_);
        const std::string csrss = registry_->csrss.empty() ? system32 + "csrss.exe" : registry_->csrss;
        if (!program(Code::WindowsProgramMissing, csrss, "the subsystem that the session manager must start",
                     "STOP 0xC000021A STATUS_SYSTEM_PROCESS_TERMINATED"))
            return false;
        // What the session manager imports (ntdll.dll) is what every program needs.
        for (const auto& library : own_image(system32 + "smss.exe", false).image.imports)
            if (!library.starts_with("api-ms-") && !library.starts_with("ext-ms-") &&
                !program(Code::WindowsProgramMissing, system32 + library, "a library the session manager needs",
                         "STOP 0xC0000221 unknown hard error"))
                return false;
        holds_but_for_losses(Stage::Init, "the session manager and the subsystem it must start are there",
                             {evidence_place(place(system32 + "smss.exe"), {}, "a sound image"),
                              evidence_place(place(csrss), {}, "a sound image")});
        return true;
    }

    void services() {
        const std::string system32 = start_.directory + "/System32/";
        const auto software = open_windows_hive(*start_.system, start_.directory, "SOFTWARE");
        if (!software) {
            ladder_.breaks(Code::WindowsSoftwareHive,
                           fmt::format("the registry hive {} cannot be used: {}", place(system32 + "config/SOFTWARE"),
                                       software.error().what),
                           {evidence_error(software.error())},
                           "STOP 0xC0000218 {Registry File Failure}\nThe registry cannot load the hive (file): "
                           "\\SystemRoot\\System32\\Config\\SOFTWARE");
            return;
        }
        const std::string hive = system32 + "config/SOFTWARE";
        if (auto lost = lost_of(hive)) losses_.emplace_back(hive, std::move(*lost));
        std::vector<std::pair<std::string, std::string_view>> programs{{"winlogon.exe", "the logon"},
                                                                       {"services.exe", "the service control manager"},
                                                                       {"lsass.exe", "the security authority"}};
        if (!older()) programs.insert(programs.begin(), {"wininit.exe", "the start-up program"});
        for (const auto& [file, role] : programs)
            if (!program(Code::WindowsLogonProgramMissing, system32 + file, role,
                         "STOP 0xC000021A STATUS_SYSTEM_PROCESS_TERMINATED"))
                return;
        std::vector<std::string> absent;
        for (const auto& s : registry_->services) {
            if (s.start != 1 && s.start != 2) continue;
            if (!s.file.empty() && !resolve(*fs_, s.file)) absent.push_back(s.name);
        }
        if (!absent.empty())
            ladder_.add_finding(make_finding(
                Code::WindowsServiceMissing,
                fmt::format("files of services are not there: {}; each is logged, and the start goes on",
                            fmt::join(absent, ", ")),
                {evidence_place(place(system32 + "config/SYSTEM"), {}, registry_->control_set + "\\Services")}));
        holds_but_for_losses(Stage::Services, "the SOFTWARE hive is usable, logon and service control are there",
                             {evidence_place(place(system32 + "config/SOFTWARE")),
                              evidence_place(place(system32 + "winlogon.exe"), {}, "a sound image")});
    }

    const MenuEntry& entry_;
    const Menu& menu_;
    Ladder& ladder_;
    WindowsStart start_;
    const FileSystem* fs_ = nullptr;
    Result<WindowsRegistry> registry_ = fail(ErrorKind::NotFound, "not read");
    std::map<std::string, ImageState> images_;
    std::set<std::string> followed_;
    std::map<std::string, std::string> renamed_;  ///< what renames that were put off leave, by path
    std::unique_ptr<SignedFiles> signed_;
    std::vector<std::pair<std::string, Error>> losses_;  ///< of files that the stage at hand needs
};

}  // namespace

bool is_nt(const Start& start) { return std::holds_alternative<NtStart>(start); }

Step run_nt(const Start& start, const Before& /*before*/, Context& /*context*/, Ladder& ladder) {
    const auto& nt = std::get<NtStart>(start);
    WindowsWalk(*nt.entry, *nt.menu, ladder).run();
    return {};
}

}  // namespace herberge::walk
