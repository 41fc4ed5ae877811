// SPDX-License-Identifier: MIT
// GRUB's commands that load and start something.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/artifact.hpp>
#include <herberge/uefi.hpp>

#include "bytes/lost.hpp"
#include "loader/family.hpp"
#include "loader/grub/interpreter.hpp"
#include "ondisk/linux.hpp"

namespace herberge::grub {

namespace {

constexpr unsigned most_setup_sectors = 64;  // include/grub/i386/linux.h: GRUB_LINUX_MAX_SETUP_SECTS

/// What GRUB prints where a file ends too early, or its disk does not give it.
std::string short_read(const Error& error) {
    return error.unreadable() ? fmt::format("failure reading sector 0x{:x}.", error.byte / 512)
                              : "premature end of file";
}

/// What grub-core/loader/i386/linux.c and …/pc/linux.c refuse; empty: loaded.
std::string refuse_kernel(const ByteSource& file, bool real_mode) {
    const auto setup = file.load<ondisk::LinuxSetup>(0x1F1);
    if (!setup) return short_read(setup.error());
    if (setup->boot_flag != 0xAA55) return "invalid magic number.";
    if (setup->setup_sectors > most_setup_sectors) return "too many setup sectors.";
    const bool header = std::memcmp(setup->header.data(), "HdrS", 4) == 0;
    const std::uint16_t version = setup->version;
    if (real_mode) return {};
    if (!header || version < 0x0203) return "version too old for 32-bit boot (try with `linux16').";
    if ((setup->load_flags & 1U) == 0) return "zImage doesn't support 32-bit boot (try with `linux16').";
    return {};
}

/// Where a kernel is an EFI application and nothing else: what grub-core/loader/arm64/linux.c refuses, and the firmware
/// that it hands it to. Empty: started.
std::string refuse_application(const ByteSource& file, EfiMachine machine, std::string& why) {
    const auto mark = file.bytes(0, std::min<std::uint64_t>(64, file.size()));
    if (!mark) return short_read(mark.error());
    if (mark->size() < 64) return "premature end of file";
    if ((*mark)[0] != 'M' || (*mark)[1] != 'Z')
        return "plain image kernel not supported - rebuild with CONFIG_(U)EFI_STUB enabled.";
    if (const auto refused = refuse_efi_image(file, machine)) {
        why = refused->why;
        return "cannot load image.";
    }
    return {};
}

/// The firmware for which this GRUB is made, when kernels are EFI applications there; null: a PC's.
const EfiMachineRow* application_platform(std::string_view platform) {
    const auto rows = efi_machines();
    const auto found = std::ranges::find(rows, platform, &EfiMachineRow::grub);
    return found != rows.end() && found->processor != Processor::X86 ? &*found : nullptr;
}

/// A member of an archive: head and name, filled up to four bytes (cpio "newc", as grub-core/loader/linux.c makes it).
void add_member(std::vector<std::uint8_t>& out, const std::string& name, unsigned mode, std::uint64_t size) {
    const std::string head = fmt::format(
        "070701{0:08X}{1:08X}{0:08X}{0:08X}{2:08X}{0:08X}{3:08X}{0:08X}{0:08X}{0:08X}"
        "{0:08X}{4:08X}{0:08X}{5}",
        0, mode, 1, size, name.size() + 1, name);
    out.insert(out.end(), head.begin(), head.end());
    out.resize((out.size() + 1 + 3) / 4 * 4);
}

/// GRUB's own version, which a module tells ("2.06-13+deb12u2", with an epoch before it "2:2.12-1"); empty: none does.
std::string version_told(const Modules& modules) {
    const auto digit = [](char c) { return c >= '0' && c <= '9'; };
    for (std::string_view word : modules.words) {
        word.remove_prefix(std::min(word.find(':') + 1, word.size()));
        if (word.size() >= 4 && word.starts_with("2.") && digit(word[2]) && digit(word[3])) return std::string(word);
    }
    return {};
}

/// What the kernel is given for "newc:NAME:FILE": an archive of that file by that name, with the folders above it.
Source archive_of(std::string_view name, const Source& file, const std::string& place) {
    constexpr unsigned folder = 040777, program = 0100777;
    std::vector<std::uint8_t> head, end;
    for (auto stroke = name.find('/'); stroke != std::string_view::npos; stroke = name.find('/', stroke + 1))
        add_member(head, std::string(name.substr(0, stroke)), folder, 0);
    add_member(head, std::string(name), program, file->size());
    add_member(end, "TRAILER!!!", 0, 0);
    return concatenate({memory_source(std::move(head), place), file, memory_source(std::move(end), place)}, 4, place);
}

}  // namespace

int Interpreter::cmd_linux(const Arguments& a, const Command& /*c*/) {
    const bool real_mode = a[0] == "linux16";
    context_.loaded = Loaded{};  // a new kernel replaces what was loaded
    if (a.size() < 2) return error("filename expected.");
    auto& loaded = context_.loaded;
    loaded.kind = EntryKind::Linux;
    // GRUB reads a packed kernel as what it unpacks to; the kernels of PCs are not packed as files.
    const auto* application = application_platform(world_.platform());
    const auto opened = open(a[1], application == nullptr);
    loaded.kernel = {reference(opened, a[1])};
    loaded.arguments = fmt::format("{}", fmt::join(a.begin() + 2, a.end(), " "));
    if (opened.failure == Opened::Failure::Unread) {
        loaded.unread = opened.message;
        loaded.ready = true;
        return 0;
    }
    if (!opened.source) {
        std::string reason = fmt::format("the kernel {} cannot be opened: {}", a[1], opened.message);
        Code code = Code::EntryKernelMissing;
        if (opened.failure == Opened::Failure::Device || opened.failure == Opened::Failure::FileSystem) {
            code = Code::EntryDeviceMissing;
            reason = fmt::format("the device the kernel {} is looked for on cannot be used: {}{}", a[1], opened.message,
                                 opened.because);
        } else if (opened.failure == Opened::Failure::Read) {
            code = Code::KernelUnreadable;
        }
        stop(code, reason);
        return error(opened.message);
    }
    std::string refusal;
    if (application != nullptr) loaded.started_by = KernelEntry::Efi;
    auto refused = application != nullptr ? refuse_application(*opened.source, application->machine, refusal)
                                          : refuse_kernel(*opened.source, real_mode);
    // Who has kernels verified reads all of them (grub-core/kern/verifiers.c).
    if (const auto lost = refused.empty() && world_.verifies() ? lost_within(*opened.source) : std::nullopt)
        refused = short_read(*lost);
    if (!refused.empty()) {
        if (refused == "premature end of file") refused += " " + a[1] + ".";
        if (refused.starts_with("failure reading"))
            stop(Code::KernelUnreadable, fmt::format("the kernel {} cannot be read: {}", a[1], refused));
        else
            stop(Code::KernelRefusedByLoader,
                 refusal.empty()
                     ? fmt::format("GRUB refuses the kernel {}: {}", a[1], refused)
                     : fmt::format("the firmware does not take the kernel {} from GRUB: {}", a[1], refusal));
        return error(refused);
    }
    if (const auto why = world_.refuse_kernel(*opened.source)) {
        stop(Code::KernelSignatureRefused, fmt::format("shim does not let GRUB start the kernel {}: {}", a[1], *why));
        return error("bad shim signature.");
    }
    loaded.ready = true;
    return 0;
}

int Interpreter::cmd_initrd(const Arguments& a, const Command& /*c*/) {
    auto& loaded = context_.loaded;
    if (a.size() < 2) return error("filename expected.");
    std::vector<FileReference> files;
    std::string first_error;
    std::string packed;  // the first file that an archive is made of
    bool matters = false;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i] == "--nounzip") continue;
        std::string path = a[i];
        // newc:NAME:FILE packs a file into an archive (grub-core/loader/linux.c).
        std::string packed_as;
        if (path.starts_with("newc:")) {
            const auto name = std::min(path.find_first_not_of('/', 5), path.size());
            if (const auto colon = path.find(':', name); colon != std::string::npos) {
                packed_as = path.substr(name, colon - name);
                path = path.substr(colon + 1);
            }
        }
        const auto opened = open(path, true);
        files.push_back(reference(opened, path));
        matters = matters || (packed_as.empty() ? !packed.empty() : packed_as == "init");
        if (opened.source && !packed_as.empty()) {
            if (packed.empty()) packed = path;
            auto& file = files.back();
            file.place = fmt::format("{} as {}", file.where(), printable(packed_as));
            file.bytes = archive_of(packed_as, opened.source, file.place);
            file.size = file.bytes->size();
        }
        if (opened.failure == Opened::Failure::Unread) loaded.unread = opened.message;
        else if (!opened.source && first_error.empty()) first_error = opened.message;
    }
    // Up to 2.06 the names lack their zero byte: Linux since 6.1's last builds unpacks nothing from there on
    // ("initramfs name without nulterm", really started), older ones do.
    if (const auto version = version_told(context_.modules);
        matters && !packed.empty() && version.substr(0, 4) < "2.12")
        loaded.unread = fmt::format(
            "GRUB {} packs {} by a name without its end: newer kernels unpack nothing behind it, older ones do",
            version.empty() ? "before 2.12 (this one does not tell its version)" : version, packed);
    if (!loaded.ready) {
        if (loaded.kind == EntryKind::Linux) loaded.ramdisks = std::move(files);
        return error("you need to load the kernel first.");
    }
    loaded.ramdisks = std::move(files);
    // One missing file makes the command fail as a whole: the kernel then starts without any RAM disk.
    return first_error.empty() ? 0 : error(first_error);
}

int Interpreter::cmd_devicetree(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return error("filename expected.");
    const auto opened = open(a[1]);
    context_.loaded.devicetree = {reference(opened, a[1])};
    return opened.source ? 0 : error(opened.message);
}

int Interpreter::cmd_multiboot(const Arguments& a, const Command& /*c*/) {
    context_.loaded = Loaded{};
    context_.loaded.kind = EntryKind::Multiboot;
    const auto file =
        std::find_if(a.begin() + 1, a.end(), [](const std::string& word) { return !word.starts_with("--"); });
    if (file == a.end()) return error("filename expected.");
    const auto opened = open(*file);
    context_.loaded.kernel = {reference(opened, *file)};
    if (opened.failure == Opened::Failure::Unread) context_.loaded.unread = opened.message;
    else if (!opened.source) {
        stop(Code::EntryKernelMissing, fmt::format("the kernel {} cannot be opened: {}", *file, opened.message));
        return error(opened.message);
    }
    context_.loaded.ready = true;
    return 0;
}

int Interpreter::cmd_chainloader(const Arguments& a, const Command& /*c*/) {
    context_.loaded = Loaded{};
    auto& loaded = context_.loaded;
    loaded.kind = EntryKind::Chainload;
    bool force = false;
    std::string target;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i] == "--force" || a[i] == "-f") force = true;
        else if (!a[i].starts_with("--")) target = a[i];
    }
    if (target.empty()) return error("filename expected.");
    Source code;
    const auto plus = target.find('+');
    std::string device_name = variable("root");
    std::string_view rest(target);
    if (rest.starts_with('(')) {
        const auto close = rest.find(')');
        device_name = rest.substr(1, close == std::string_view::npos ? close : close - 1);
        rest.remove_prefix(close == std::string_view::npos ? rest.size() : close + 1);
    }
    if (plus != std::string::npos && !rest.starts_with('/')) {
        // A block list: "+1" is the first sector of the device.
        const auto device = world_.device(device_name, context_.modules);
        if (device && !device->unread.empty()) {
            loaded.unread = device->unread;
            loaded.ready = true;
            return 0;
        }
        if (!device) {
            stop(Code::EntryDeviceMissing, fmt::format("the device {} does not exist", device_name));
            return error(world_.no_device(device_name, context_.modules));
        }
        const Source base = device->volume != nullptr ? device->volume->source : device->disk->source;
        const auto first =
            static_cast<std::uint64_t>(std::max(0, std::atoi(std::string(rest.substr(0, rest.find('+'))).c_str())));
        code = slice(base, first * 512, 512, base->place());
    } else {
        const auto opened = open(target);
        loaded.kernel = {reference(opened, target)};
        if (opened.failure == Opened::Failure::Unread) {
            loaded.unread = opened.message;
            loaded.ready = true;
            return 0;
        }
        if (!opened.source) {
            stop(Code::EntryKernelMissing, fmt::format("the loader {} cannot be opened: {}", target, opened.message));
            return error(opened.message);
        }
        if (world_.platform().ends_with("efi")) {
            // Another EFI application: the firmware's loader judges it when it is started.
            loaded.chain = ChainTarget{opened.volume->place, {}};
            loaded.ready = true;
            return 0;
        }
        code = opened.source;
    }
    loaded.chain = loader::first_sector_of(code);
    const auto sector = code->bytes(0, 512);
    if (!sector) {
        const bool unreadable = sector.error().unreadable();
        stop(Code::ChainUnreadable,
             unreadable ? "the sector to chain to cannot be read" : fmt::format("{} is shorter than a sector", target));
        return error(unreadable ? short_read(sector.error()) : fmt::format("premature end of file {}.", target));
    }
    if (!force && ((*sector)[510] != 0x55 || (*sector)[511] != 0xAA)) {
        stop(Code::ChainNoSignature, fmt::format("the boot sector of {} has no signature 55AA", code->place()));
        return error("invalid signature.");
    }
    loaded.ready = true;
    return 0;
}

int Interpreter::cmd_boot(const Arguments& /*a*/, const Command& /*c*/) {
    if (!context_.loaded.ready) return error("you need to load the kernel first.");
    flow_ = Flow::Booted;
    return 0;
}

}  // namespace herberge::grub
