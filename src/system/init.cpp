// SPDX-License-Identifier: MIT
// The init that would run.
#include <fmt/format.h>
#include <array>
#include <csignal>

#include <herberge/system.hpp>

#include "bytes/lost.hpp"
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

/// The init and its libraries against what their packages brought. One that differs may well work: a risk.
void compare_with_packages(const FileSystem& fs, const std::string& place, const Executable& program, Claim& result) {
    const PackageLists lists(fs);
    auto paths = program.libraries;
    paths.push_back(program.path);
    for (const auto& path : paths) {
        const auto name = path.substr(path.rfind('/') + 1);
        // "libm.so.6" comes with libc6, "libmount.so.1" with libmount1: packages begin with the library's name.
        std::vector<std::string> packages = {"systemd", "libsystemd", "sysvinit", "busybox", "libc6", "init"};
        if (name.starts_with("lib")) packages.push_back(name.substr(0, name.find_first_of(".-")));
        const auto found = resolve(fs, path);
        const auto file = found ? fs.open(found->file.id, path) : tl::unexpected(found.error());
        const auto digest = file ? lists.digest(path, **file, packages) : std::nullopt;
        if (!digest || digest->same) continue;
        result.findings.push_back(
            make_finding(Code::FileDiffersFromPackage,
                         fmt::format("{}:{} is not the file that the package {} brought", place, path, digest->package),
                         {evidence_place(place + ":" + digest->list, digest->expected, digest->found)}));
    }
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
                const auto from = bytes->begin() + static_cast<std::ptrdiff_t>(within);
                if (std::all_of(from, from + static_cast<std::ptrdiff_t>(sector), [](auto b) { return b == 0; }))
                    return at + within;
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
    out.program = judge_executable(*fs, root.place, out.asked, processor);
    auto& result = out.result;
    if (out.program.runs) {
        out.flavour = flavour_of(*fs, out.program);
        result.state = State::Holds;
        result.text = out.program.path == out.asked
                          ? fmt::format("{} can be executed", out.asked)
                          : fmt::format("{} leads to {}, which can be executed", out.asked, out.program.path);
        result.evidence = out.program.evidence;
        compare_with_packages(*fs, root.place, out.program, result);
        doubt_for_losses(*fs, root.place, out.program, result);
        doubt_for_zeros(*fs, root.place, out.program, result);
        return out;
    }
    const Executable first = out.program;
    // Executed, and dead at once: of a library that is not there, or at a page behind the file's end.
    const bool executed = first.code == Code::ProgramLibraryMissing || first.code == Code::ProgramCut;
    // It has its execute bit, and executing it fails.
    const bool refused = first.code == Code::ProgramInterpreterMissing || first.code == Code::ProgramFormat ||
                         first.code == Code::ProgramArchitecture;
    // What is tried next: the kernel's own list (init/main.c) when it mounts the root itself and init= is not given;
    // initramfs-tools has the same list, and asks for the execute bit only. Other RAM disks give up.
    const bool tries_others =
        !executed && (ramdisk == nullptr ? !given : ramdisk->builder == "initramfs-tools" && !refused);
    if (tries_others) {
        for (const std::string_view other : {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"}) {
            if (other == out.asked) continue;
            auto next = judge_executable(*fs, root.place, other, processor);
            if (!next.runs) continue;
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
    std::string symptom;
    if (first.code == Code::ProgramCut) symptom = screen_init_dies(SIGBUS);
    else if (executed)
        symptom = fmt::format(
            "{}: error while loading shared libraries: {}\n"
            "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00007f00 ]---",
            out.asked, printable(first.missing_library));
    else if (ramdisk == nullptr)
        symptom = given ? fmt::format("Kernel panic - not syncing: Requested init {} failed (error -2).", *given)
                        : "Kernel panic - not syncing: No working init found.  Try passing init= option to kernel.";
    else if (refused)
        // The RAM disk's test for the execute bit passes; executing then fails.
        symptom = screen_init_refused(
            out.asked,
            first.code == Code::ProgramInterpreterMissing ? "No such file or directory" : "Exec format error",
            *ramdisk);
    else symptom = screen_init_missing(out.asked, *ramdisk);
    result.break_with(make_finding(*first.code, fmt::format("the init {} cannot run: {}", out.asked, first.why),
                                   first.evidence, std::move(symptom)));
    return out;
}

}  // namespace herberge
