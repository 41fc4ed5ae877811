// SPDX-License-Identifier: MIT
// The init that would run.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <csignal>

#include <herberge/system.hpp>

#include "artifact/libraries.hpp"
#include "bytes/lost.hpp"
#include "bytes/uniform.hpp"
#include "system/packages.hpp"
#include "system/ramdisk_screens.hpp"

namespace herberge {

namespace {

/// System V's init asks for a run level and names its table; its words stand in the program.
bool mentions_run_levels(const FileSystem& fs, const std::string& path) {
    constexpr std::uint64_t most = std::uint64_t{1} << 20U;
    const auto text = read_text_file(fs, path, most);
    return text && text->find("/etc/inittab") != std::string::npos && text->find("runlevel") != std::string::npos;
}

std::string flavour_of(const FileSystem& fs, const Executable& program) {
    const std::string_view path(program.path);
    if (path.ends_with("/systemd")) return "systemd";
    if (path.ends_with("/busybox")) return "busybox";
    if (path.ends_with("/openrc-init")) return "openrc";
    if (path.ends_with("/runit-init") || path.ends_with("/runit")) return "runit";
    if (path.ends_with("/init") && (resolve(fs, "/etc/inittab") || mentions_run_levels(fs, program.path)))
        return "sysvinit";
    if (program.script) return "script";
    return {};
}

/// The program, its libraries, and what links them, as far as they can be opened.
template <class Visit>
void each_part(const FileSystem& fs, const std::string& place, const Executable& program, const Visit& visit) {
    auto paths = program.libraries;
    paths.push_back(program.path);
    if (!program.interpreter.empty()) paths.push_back(program.interpreter);
    for (const auto& path : paths) {
        const auto found = resolve(fs, path);
        const auto file =
            found ? fs.open(found->file.id, fmt::format("{}:{}", place, path)) : tl::unexpected(found.error());
        if (file) visit(path, **file);
    }
}

/// The init and its libraries against what their packages brought. One that differs may well work: a risk.
void compare_with_packages(const FileSystem& fs, const std::string& place, const Executable& program, Claim& result) {
    const PackageLists lists(fs);
    each_part(fs, place, program, [&](const std::string& path, const ByteSource& file) {
        const auto name = path.substr(path.rfind('/') + 1);
        // "libm.so.6" comes with libc6, "libmount.so.1" with libmount1: packages begin with the library's name.
        std::vector<std::string> packages = {"systemd", "libsystemd", "sysvinit", "busybox", "libc6", "init"};
        if (name.starts_with("lib")) packages.push_back(name.substr(0, name.find_first_of(".-")));
        const auto digest = lists.digest(path, file, packages);
        if (!digest || digest->same) return;
        result.findings.push_back(
            make_finding(Code::FileDiffersFromPackage,
                         fmt::format("{}:{} is not the file that the package {} brought", place, path, digest->package),
                         {evidence_place(place + ":" + digest->list, digest->expected, digest->found)}));
    });
}

/// The first 512 bytes of a file's code that are zeros, where a sector of the file begins; none: there are no such.
std::optional<std::uint64_t> zeros_in_code(const ByteSource& file) {
    constexpr std::uint64_t sector = 512, at_once = std::uint64_t{64} << 10U, most = std::uint64_t{64} << 20U;
    const auto elf = inspect_elf(file);
    if (!elf) return std::nullopt;
    for (const auto& [offset, length] : elf->code) {
        const std::uint64_t end = (offset + std::min(length, most)) / sector * sector;
        for (std::uint64_t at = (offset + sector - 1) / sector * sector; at < end; at += at_once) {
            const auto bytes = file.bytes(at, std::min(at_once, end - at));
            if (!bytes) break;
            for (std::uint64_t within = 0; within + sector <= bytes->size(); within += sector) {
                if (holds_only(std::span(*bytes).subspan(within, sector), 0)) return at + within;
            }
        }
    }
    return std::nullopt;
}

/// Compilers leave no sector of zeros in code (looked for in 2,300 programs and libraries of a distribution: in none
/// that a start runs); a file system that lost one does. A program that comes there dies (SIGSEGV; really started).
void doubt_for_zeros(const FileSystem& fs, const std::string& place, const Executable& program, Claim& result) {
    each_part(fs, place, program, [&](const std::string& path, const ByteSource& file) {
        const auto zeros = zeros_in_code(file);
        if (!zeros) return;
        result.state = State::Unknown;
        result.text +=
            fmt::format("; but a sector of the code of {} is zeros, from byte {} on, where it may die", path, *zeros);
        result.evidence.push_back(evidence_bytes(file, *zeros, 512, "code", "zeros"));
    });
}

/// Of a program and its libraries only those pages are read that are run: where the medium lacks one, the program is
/// killed when it comes there (SIGBUS; mm/filemap.c, filemap_fault).
void doubt_for_losses(const FileSystem& fs, const std::string& place, const Executable& program, Claim& result) {
    each_part(fs, place, program, [&](const std::string& path, const ByteSource& file) {
        const auto lost = lost_within(file);
        if (!lost) return;
        result.state = State::Unknown;
        result.text += fmt::format("; but a part of {} cannot be read, without which it may die", path);
        result.evidence.push_back(evidence_error(*lost));
    });
}

/// It has its execute bit, and executing it fails.
bool is_refused(Code code) {
    return code == Code::ProgramInterpreterMissing || code == Code::ProgramFormat || code == Code::ProgramArchitecture;
}
/// Executed, and dead at once: of a library that is not there, or at a page behind the file's end.
bool dies_at_once(Code code) { return code == Code::ProgramLibraryMissing || code == Code::ProgramCut; }

/// What is seen of a program that the RAM disk or the kernel executes, and that does not come to run.
std::string screen_not_run(const std::string& asked, const Executable& program, const Ramdisk* ramdisk, bool given) {
    if (program.code == Code::ProgramCut || program.missing_library.ends_with(killed_at_the_end))
        return screen_init_dies(SIGBUS);
    if (program.code == Code::ProgramLibraryMissing)
        return fmt::format(
            "{}: error while loading shared libraries: {}\n"
            "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00007f00 ]---",
            asked, printable(program.missing_library));
    if (ramdisk == nullptr)
        return given ? fmt::format("Kernel panic - not syncing: Requested init {} failed (error -2).", asked)
                     : "Kernel panic - not syncing: No working init found.  Try passing init= option to kernel.";
    if (is_refused(*program.code))
        // The RAM disk's test for the execute bit passes; executing then fails.
        return screen_init_refused(
            asked, program.code == Code::ProgramInterpreterMissing ? "No such file or directory" : "Exec format error",
            *ramdisk);
    return screen_init_missing(asked, *ramdisk);
}

/// A folder that init, or what hands over to it, mounts a file system of the kernel's on, and that is not there. One
/// on a root that may be written is made (systemd src/shared/mount-setup.c; initramfs-tools' init; really started).
bool lacks_folder(const Volume& root, const FileSystem& fs, const CommandLine& arguments, const Ramdisk* ramdisk,
                  InitChoice& out) {
    const bool hands_over = ramdisk != nullptr && ramdisk->builder == "initramfs-tools";
    if (ramdisk != nullptr && !hands_over) return false;
    const bool made = arguments.root_is_writable() == true;
    for (const std::string folder : {"/dev", "/proc", "/sys", "/run"}) {
        const auto found = resolve(fs, folder);
        if (found ? found->file.type == FileType::Directory : found.error().kind != ErrorKind::NotFound) continue;
        const bool no_console = hands_over && folder == "/dev";
        if (!no_console && (made || out.flavour != "systemd")) continue;
        out.result.break_with(make_finding(
            Code::InitFolderMissing,
            fmt::format("the root has no folder {}: {}", folder,
                        no_console ? "the RAM disk cannot hand the console over to init"
                                   : "systemd cannot mount what belongs there, and stops"),
            {evidence_place(fmt::format("{}:{}", root.place, folder), "a folder", found ? "not one" : "not there")},
            no_console         ? "can't open /root/dev/console: no such file\n"
                                 "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---"
            : folder == "/run" ? "[!!!!!!] Failed to mount API filesystems.\nFreezing execution."
                               : "[!!!!!!] Failed to mount early API filesystems.\nFreezing execution."));
        return true;
    }
    return false;
}

}  // namespace

InitChoice judge_init(const Volume& root, const CommandLine& arguments, const Ramdisk* ramdisk, Processor processor) {
    InitChoice out;
    out.processor = processor;
    const FileSystem* fs = root.files(Observer::Linux);
    if (fs == nullptr) {
        out.result.state = State::NotReached;
        return out;
    }
    const auto given = arguments.value("init");
    out.asked = given.value_or("/sbin/init");
    out.devices_told = ramdisk != nullptr && std::ranges::any_of(ramdisk->files, [](const auto& one) {
                           return one.first.ends_with("udev/rules.d/99-systemd.rules");
                       });
    if (ramdisk != nullptr && ramdisk->builder == "initramfs-tools") {
        const bool skips = arguments.has("fastboot") || arguments.value("fsck.mode") == "skip";
        const bool has = ramdisk->find("/sbin/fsck") != nullptr || ramdisk->find("/usr/sbin/fsck") != nullptr;
        out.root_checked = has && !skips;
    }
    out.program = judge_executable(*fs, root.place, out.asked, processor);
    auto& result = out.result;
    if (out.program.runs) {
        out.flavour = flavour_of(*fs, out.program);
        result.state = State::Holds;
        result.text = out.program.path == out.asked
                          ? fmt::format("{} can be executed", out.asked)
                          : fmt::format("{} leads to {}, which can be executed", out.asked, out.program.path);
        result.evidence = out.program.evidence;
        if (lacks_folder(root, *fs, arguments, ramdisk, out)) return out;
        compare_with_packages(*fs, root.place, out.program, result);
        doubt_for_losses(*fs, root.place, out.program, result);
        doubt_for_zeros(*fs, root.place, out.program, result);
        return out;
    }
    const Executable first = out.program;
    // What is tried next: the kernel's own list (init/main.c) when it mounts the root itself and init= is not given;
    // initramfs-tools has the same list, and asks for the execute bit only. Other RAM disks give up.
    const bool asks_for_the_bit = ramdisk != nullptr && ramdisk->builder == "initramfs-tools";
    const bool tries_others =
        !dies_at_once(*first.code) && (ramdisk == nullptr ? !given : asks_for_the_bit && !is_refused(*first.code));
    if (tries_others) {
        for (const std::string_view other : {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"}) {
            if (other == out.asked) continue;
            auto next = judge_executable(*fs, root.place, other, processor);
            if (!next.runs) {
                if (!asks_for_the_bit || !next.code || !(is_refused(*next.code) || dies_at_once(*next.code))) continue;
                result.break_with(make_finding(
                    *first.code,
                    fmt::format("the init {} cannot run: {}; and {}, which is tried next, cannot either: {}", out.asked,
                                first.why, other, next.why),
                    first.evidence, screen_not_run(std::string(other), next, ramdisk, given.has_value())));
                return out;
            }
            if (other == "/bin/sh") {
                // A shell takes the place of the system: nothing is mounted, nothing starts.
                result.break_with(make_finding(
                    *first.code,
                    fmt::format("the init {} cannot run: {}; a shell, /bin/sh, is started in its place", out.asked,
                                first.why),
                    first.evidence,
                    ramdisk != nullptr ? fmt::format("Target filesystem doesn't have requested {}.\n# ", out.asked)
                                       : "# "));
                return out;
            }
            result.state = State::Doubtful;
            result.text = fmt::format("{} cannot run ({}), but {} is tried next and can", out.asked, first.why, other);
            result.evidence = first.evidence;
            result.findings.push_back(make_finding(Code::InitSecondChoice, result.text, first.evidence));
            out.program = std::move(next);
            out.flavour = flavour_of(*fs, out.program);
            return out;
        }
    }
    result.break_with(make_finding(*first.code, fmt::format("the init {} cannot run: {}", out.asked, first.why),
                                   first.evidence, screen_not_run(out.asked, first, ramdisk, given.has_value())));
    return out;
}

}  // namespace herberge
