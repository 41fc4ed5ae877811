// SPDX-License-Identifier: MIT
// Files: put in place from an intact copy, written anew from what is on the machine, made executable.
#include <fmt/format.h>
#include <algorithm>
#include <optional>
#include <set>

#include <herberge/efi_files.hpp>
#include <herberge/pe.hpp>
#include <herberge/places.hpp>
#include <herberge/system.hpp>
#include <herberge/uefi.hpp>

#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

constexpr const char* ours = "# written by herberge, from what lies on this machine\n";

std::optional<std::vector<std::uint8_t>> content_of(const Machine& machine, const FilePlace& file, std::uint64_t most) {
    const auto opened = open_file(machine, file);
    auto bytes = opened ? opened->bytes->bytes(0, opened->found.file.size, most) : tl::unexpected(opened.error());
    return bytes ? std::optional(std::move(*bytes)) : std::nullopt;
}

void offer_file(const FilePlace& to, std::vector<std::uint8_t> content, std::string what, std::string risk, int rank,
                std::vector<Idea>& out) {
    out.push_back(
        {std::move(what), std::move(risk),
         [to, content = std::move(content)](Workshop& shop) { return put_file(shop, to.volume, to.path, content); },
         rank});
}
void offer_text(const FilePlace& to, const std::string& text, std::string what, std::string risk, int rank,
                std::vector<Idea>& out) {
    offer_file(to, {text.begin(), text.end()}, std::move(what), std::move(risk), rank, out);
}

// --- EFI applications ------------------------------------------------------------------------------------------------

/// The fallback file, and what a boot option names and the firmware does not start: from every application that it
/// would start.
void efi_applications(const Case& stopped, std::vector<Idea>& out) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    constexpr std::size_t most_sources = 6;
    if (stopped.verdict.firmware != FirmwareKind::Uefi || stopped.rung.stage > Stage::Loader) return;
    const auto files = find_efi_files(stopped.machine, stopped.options.variables, stopped.options.efi_machine);
    std::set<std::string> targets;
    for (const auto& file : files)
        if (!file.problem.empty()) targets.insert(file.place);
    stopped.machine.each_volume([&](const Volume& volume) {
        if (volume.as(Observer::Uefi).is(Family::Fat) && volume.files(Observer::Uefi) != nullptr)
            targets.insert(fmt::format("{}:{}", volume.place, efi_fallback_path(stopped.options.efi_machine)));
    });
    // A tool would be started in the system's place; a kernel alone lacks its command line.
    const auto serves = [](const EfiFile& file) {
        return file.problem.empty() && file.application != EfiApplication::Unknown &&
               file.application != EfiApplication::LinuxStub &&
               lower_text(file.place).find("memtest") == std::string::npos;
    };
    const auto is_unified = [](const EfiFile& file) { return file.application == EfiApplication::UnifiedKernel; };
    // A boot manager leaves the choice among all entries, and is a tenth of an image's size.
    const bool managed =
        std::ranges::any_of(files, [&](const EfiFile& file) { return serves(file) && !is_unified(file); });
    std::size_t sources = 0;
    for (const auto& file : files) {
        const auto from = file_place(file.place);
        if (!serves(file) || (managed && is_unified(file)) || !from || ++sources > most_sources) continue;
        const auto content = content_of(stopped.machine, *from, most);
        if (!content) continue;
        for (const auto& place : targets) {
            const auto to = file_place(place);
            if (!to || lower_text(place) == lower_text(file.place)) continue;
            offer_file(*to, *content, fmt::format("copy {} to {}", file.place, place),
                       "what was started from there before, if anything, is replaced", 8, out);
        }
    }
}

// --- configurations --------------------------------------------------------------------------------------------------

struct Startable {
    std::string kernel, ramdisk;  ///< paths on `volume`; no RAM disk: empty
    VolumeRef volume, root;
    std::string name;
};
/// The newest kernel of each installed Linux, with the RAM disk of the same version.
std::vector<Startable> startable(const Case& stopped) {
    std::vector<Startable> out;
    for (const auto& system : find_systems(stopped.machine)) {
        if (system.kind != SystemKind::Linux) continue;
        const auto look = [&](const VolumeRef& volume, const std::string& folder) {
            const auto* fs = volume->files(Observer::Loader);
            const auto found = fs != nullptr ? resolve(*fs, folder) : fail(ErrorKind::NotFound, "no files");
            const auto names = found ? fs->list(found->file.id) : tl::unexpected(found.error());
            if (!names) return;
            std::string kernel;
            for (const auto& name : *names)
                if ((name.name.starts_with("vmlinuz") || name.name.starts_with("bzImage") ||
                     name.name.starts_with("linux-")) &&
                    name.name > kernel)
                    kernel = name.name;
            if (kernel.empty()) return;
            const auto dash = kernel.find('-');
            const std::string version = dash == std::string::npos ? "" : kernel.substr(dash);
            std::string ramdisk;
            for (const auto& name : *names)
                if (name.name.starts_with("initr") && name.name.find(version) != std::string::npos) ramdisk = name.name;
            const std::string base = folder == "/" ? "/" : folder + "/";
            out.push_back({base + kernel, ramdisk.empty() ? "" : base + ramdisk, volume, system.volume, system.name});
        };
        look(system.volume, "/boot");
        stopped.machine.each_volume(Observer::Linux, [&](const Volume& volume) {
            const auto* fs = volume.files(Observer::Loader);
            if (fs == nullptr || volume.place == system.volume->place) return;
            const auto names = fs->list(fs->root());
            if (!names) return;
            for (const auto& name : *names) {
                if (name.name.starts_with("vmlinuz")) return look(stopped.machine.at(volume.place), "/");
                const auto folder = fs->lookup(fs->root(), name.name);
                if (folder && fs->lookup(*folder, "vmlinuz") && volume.info.is(Family::Fat))
                    return look(stopped.machine.at(volume.place), "/" + name.name);
            }
        });
    }
    return out;
}

std::string quoted(std::string name) {
    std::erase_if(name, [](char c) { return c == '"' || c == '\\' || c == '$' || c == '\n'; });
    return name;
}

/// Entries for the volumes whose own boot sector starts Windows.
std::string chained(const Case& stopped, int& entries) {
    std::string out;
    stopped.machine.each_volume([&](const Volume& volume) {
        const auto* fs = volume.files(Observer::Grub);
        if (fs == nullptr || volume.info.uuid.empty() || (!resolve(*fs, "/bootmgr") && !resolve(*fs, "/ntldr"))) return;
        out += fmt::format(
            "menuentry \"Windows ({})\" {{\n\tsearch --no-floppy --fs-uuid --set=root {}\n\tchainloader "
            "+1\n}}\n",
            volume.place, volume.info.uuid);
        ++entries;
    });
    return out;
}

void grub_menu(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::GrubConfigMissing) && !stopped.has(Code::GrubConfigEmpty)) return;
    for (const auto& evidence : stopped.rung.evidence) {
        const auto to = file_place(evidence.place);
        if (!to) continue;
        // One that only leads to another one, which is there.
        stopped.machine.each_volume(Observer::Grub, [&](const Volume& volume) {
            const auto* fs = volume.files(Observer::Grub);
            if (fs == nullptr || volume.info.uuid.empty()) return;
            for (const char* folder : {"/boot/grub", "/grub"}) {
                const std::string path = std::string(folder) + "/grub.cfg";
                if (evidence.place == volume.place + ":" + path || !resolve(*fs, path)) continue;
                offer_text(*to,
                           fmt::format("{}search --no-floppy --fs-uuid --set=root {}\nset prefix=($root){}\nconfigfile "
                                       "$prefix/grub.cfg\n",
                                       ours, volume.info.uuid, folder),
                           fmt::format("write {} so that it leads to {}:{}", evidence.place, volume.place, path), {},
                           16, out);
            }
        });
        std::string all;
        int entries = 0;
        for (const auto& one : startable(stopped)) {
            if (one.volume->info.uuid.empty() || one.root->info.uuid.empty()) continue;
            all += fmt::format(
                "menuentry \"{}\" {{\n\tsearch --no-floppy --fs-uuid --set=root {}\n\tlinux {} root=UUID={} ro\n{}}}\n",
                quoted(one.name), one.volume->info.uuid, one.kernel, one.root->info.uuid,
                one.ramdisk.empty() ? "" : "\tinitrd " + one.ramdisk + "\n");
            ++entries;
        }
        if (stopped.verdict.firmware == FirmwareKind::Bios) all += chained(stopped, entries);
        if (entries > 0)
            offer_text(
                *to, fmt::format("{}set timeout=5\n{}", ours, all),
                fmt::format("write {} anew, with {}", evidence.place,
                            entries == 1 ? std::string("one entry") : fmt::format("entries for {} systems", entries)),
                "options that the old menu had are not known", 20, out);
    }
}

void loader_entries(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::BootEntriesMissing)) return;
    for (const auto& one : startable(stopped)) {
        if (!one.volume->info.is(Family::Fat) || one.root->info.uuid.empty()) continue;
        for (const std::string& root :
             {fmt::format("PARTUUID={}", one.root->partuuid), fmt::format("UUID={}", one.root->info.uuid)})
            offer_text({one.volume->place, "/loader/entries/herberge.conf"},
                       fmt::format("{}title {}\nlinux {}\n{}options root={} ro\n", ours, one.name, one.kernel,
                                   one.ramdisk.empty() ? "" : "initrd " + one.ramdisk + "\n", root),
                       fmt::format("write {}:/loader/entries/herberge.conf, an entry for {} ({}, root={})",
                                   one.volume->place, one.name, one.root->place, root),
                       "options that the old entry had are not known", 20, out);
    }
}

void syslinux_menu(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::SyslinuxConfigMissing) && !stopped.has(Code::SyslinuxConfigEmpty)) return;
    for (const auto& one : startable(stopped)) {
        if (one.root->info.uuid.empty()) continue;
        for (const char* path : {"/boot/extlinux/extlinux.conf", "/extlinux/extlinux.conf", "/syslinux/syslinux.cfg"}) {
            const auto* fs = one.volume->files(Observer::Linux);
            if (fs == nullptr || !resolve(*fs, std::string(path).substr(0, std::string(path).rfind('/')))) continue;
            offer_text(
                {one.volume->place, path},
                fmt::format("{}DEFAULT linux\nLABEL linux\n\tLINUX {}\n\tAPPEND root=UUID={} ro\n{}", ours, one.kernel,
                            one.root->info.uuid, one.ramdisk.empty() ? "" : "\tINITRD " + one.ramdisk + "\n"),
                fmt::format("write {}:{} anew, with one entry for {}", one.volume->place, path, one.name),
                "options that the old menu had are not known", 20, out);
        }
    }
}

// --- permissions, and copies of files that are missing ---------------------------------------------------------------

void executable(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::ProgramNotExecutable) && !stopped.has(Code::ServicesProgramMissing)) return;
    for (const auto& evidence : stopped.rung.evidence) {
        const auto file = file_place(evidence.place);
        if (!file) continue;
        out.push_back({fmt::format("make {} executable (mode 0755)", evidence.place),
                       {},
                       [file = *file](Workshop& shop) { return set_permissions(shop, file.volume, file.path, 0755); },
                       10});
    }
}

/// A module of GRUB that is missing or damaged, from where its package keeps the originals.
void grub_modules(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::GrubNormalModule) && !stopped.has(Code::GrubModuleMissing)) return;
    constexpr std::uint64_t most = std::uint64_t{4} << 20U;
    for (const auto& evidence : stopped.rung.evidence) {
        const auto to = file_place(evidence.place);
        if (!to || !to->path.ends_with(".mod")) continue;
        const auto slash = to->path.rfind('/');
        const auto above = to->path.rfind('/', slash - 1);
        if (slash == 0 || above == std::string::npos) continue;
        const std::string same = "/usr/lib/grub" + to->path.substr(above);
        stopped.machine.each_volume(Observer::Linux, [&](const Volume& volume) {
            const auto content = content_of(stopped.machine, {volume.place, same}, most);
            if (content)
                offer_file(*to, *content, fmt::format("copy {}:{} to {}", volume.place, same, evidence.place), {}, 4,
                           out);
        });
    }
}

}  // namespace

void propose_files(const Case& stopped, std::vector<Idea>& out) {
    efi_applications(stopped, out);
    grub_menu(stopped, out);
    loader_entries(stopped, out);
    syslinux_menu(stopped, out);
    executable(stopped, out);
    grub_modules(stopped, out);
}

}  // namespace herberge::remedy
