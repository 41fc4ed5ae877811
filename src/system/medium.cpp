// SPDX-License-Identifier: MIT
// Media that are started to install, to repair or to run a system from: they bring kernel and RAM disk, and often their
// root file system packed in one file.
#include <fmt/format.h>
#include <algorithm>

#include "system/medium.hpp"

namespace herberge {

namespace {

struct Scheme {
    std::string_view option;     ///< of the command line that asks for it
    std::string_view directory;  ///< where its packed root lies by default
    std::string_view moved_by;   ///< the option that names another directory
    bool unites;                 ///< it lays file systems over each other; others use snapshots of a device
};
/// live-boot(7), casper(7), dracut.cmdline(7), mkinitcpio-archiso.
constexpr Scheme schemes[] = {{"boot=live", "/live", "live-media-path", true},
                              {"boot=casper", "/casper", "live-media-path", true},
                              {"rd.live.image", "/LiveOS", "rd.live.dir", false},
                              {"archisobasedir", "/arch", "archisobasedir", false}};

std::string first_line(std::string_view text) {
    std::string out;
    for (const char c : text) {
        if (c == '\n') break;
        out += c;
    }
    return printable(out);
}

bool packed_root(std::string_view name) {
    return name.ends_with(".squashfs") || name.ends_with(".sfs") || name.ends_with(".erofs") ||
           name == "squashfs.img" || name == "rootfs.img";
}

/// Files that hold a packed root, in a directory and one level below.
std::vector<std::string> packed_roots(const FileSystem& fs, const std::string& directory,
                                      std::optional<Error>& unreadable, int depth = 1) {
    std::vector<std::string> out;
    const auto found = resolve(fs, directory);
    const auto names = found ? fs.list(found->file.id) : tl::unexpected(found.error());
    if (!names) {
        if (names.error().unreadable()) unreadable = names.error();
        return out;
    }
    for (const auto& entry : *names) {
        const std::string path = (directory == "/" ? "/" : directory + "/") + entry.name;
        if (packed_root(entry.name)) out.push_back(path);
        else if (entry.type == FileType::Directory && depth > 0 && out.size() < 100)
            for (auto& deeper : packed_roots(fs, path, unreadable, depth - 1)) out.push_back(std::move(deeper));
    }
    return out;
}

const Scheme* scheme_of(const CommandLine& arguments) {
    for (const auto& scheme : schemes)
        if (arguments.has(scheme.option) || arguments.value(scheme.option)) return &scheme;
    return nullptr;
}

/// A packed file system may hold nothing but the image of the real one (dmsquash-live of dracut).
VolumeRef innermost(VolumeRef packed) {
    const auto* fs = packed->files(Observer::Linux);
    if (fs == nullptr) return packed;
    for (const std::string_view path : {"/LiveOS/rootfs.img", "/LiveOS/ext3fs.img"}) {
        const auto found = resolve(*fs, path);
        if (!found) continue;
        if (auto file = fs->open(found->file.id, fmt::format("{}:{}", packed->place, path)))
            return std::make_shared<const Volume>(NodeKind::PackedFile, *file, std::vector{packed}, LayerNames{});
    }
    return packed;
}

}  // namespace

std::optional<InstalledSystem> identify_medium(const Volume& volume) {
    const FileSystem* fs = volume.files(Observer::Linux);
    if (fs == nullptr || (volume.info.format != Format::Iso9660 && !volume.info.is(Family::Fat))) return std::nullopt;
    InstalledSystem out;
    out.kind = SystemKind::Medium;
    out.volume = volume.shared_from_this();
    for (const std::string_view path :
         {"/.disk/info", "/.treeinfo", "/.discinfo", "/live", "/casper", "/LiveOS", "/arch/boot", "/sources/boot.wim"})
        if (resolve(*fs, path)) {
            out.mark = path;
            break;
        }
    if (out.mark.empty()) return std::nullopt;
    if (out.mark == "/.disk/info") {
        const auto text = read_text_file(*fs, out.mark);
        if (text) out.name = first_line(*text);
    }
    if (out.name.empty()) out.name = volume.info.label.empty() ? "install or live medium" : volume.info.label;
    return out;
}

PackedRoot judge_medium(const Volume& volume, const CommandLine& arguments) {
    PackedRoot found_root;
    Claim& out = found_root.result;
    const Scheme* scheme = scheme_of(arguments);
    const FileSystem* fs = volume.files(Observer::Linux);
    if (fs == nullptr) return found_root;
    if (scheme == nullptr) {
        out.state = State::NotNeeded;
        out.text = "the command line names no root: what the RAM disk holds is the system";
        return found_root;
    }
    found_root.unites = scheme->unites;
    std::string directory = arguments.value(scheme->moved_by).value_or(std::string(scheme->directory));
    if (!directory.starts_with('/')) directory = "/" + directory;
    std::optional<Error> unreadable;
    const auto files = packed_roots(*fs, directory, unreadable);
    const std::string place = fmt::format("{}:{}", volume.place, directory);
    if (files.empty() && unreadable) {
        out.break_with(make_finding(
            Code::RootUnreadable,
            fmt::format("whether {} has a packed root file system cannot be read: {}", place, unreadable->what),
            {evidence_error(*unreadable)}, no_medium));
        return found_root;
    }
    if (files.empty()) {
        out.break_with(
            make_finding(Code::MediumRootMissing,
                         fmt::format("the RAM disk ({}) looks for a packed root file system in {}, and there is none",
                                     scheme->option, place),
                         {evidence_place(place, "a file with the packed root file system", "none")}, no_medium));
        return found_root;
    }
    for (const auto& path : files) {
        const auto found = resolve(*fs, path);
        const auto file = found ? fs->open(found->file.id, fmt::format("{}:{}", volume.place, path))
                                : fail(ErrorKind::NotFound, "gone");
        const auto inside = file ? recognise_volume(**file) : VolumeInfo{};
        // It is mounted through a loop device, which has whole sectors (Linux, drivers/block/loop.c).
        const std::uint64_t given = file ? (*file)->size() / 512 * 512 : 0;
        const bool whole = file && inside.size <= given;
        out.evidence.push_back(evidence_place(
            fmt::format("{}:{}", volume.place, path), {},
            file ? fmt::format("{}, {}", inside.name(), size_text((*file)->size())) : file.error().text()));
        if (whole && inside.known()) {
            found_root.layers.push_back(innermost(std::make_shared<const Volume>(
                NodeKind::PackedFile, *file, std::vector{volume.shared_from_this()}, LayerNames{})));
            continue;
        }
        const auto head = file ? (*file)->bytes(0, std::min<std::uint64_t>((*file)->size(), 4096))
                               : fail(ErrorKind::NotFound, "not opened");
        const bool lost = file && !head && head.error().unreadable();
        std::string text =
            !file  ? fmt::format("{}:{} cannot be read: {}", volume.place, path, file.error().what)
            : lost ? fmt::format("{}:{} cannot be read: {}", volume.place, path, head.error().what)
            : !inside.known()
                ? fmt::format("{}:{} holds no file system", volume.place, path)
                : fmt::format("{}:{} is cut short: its file system has {} bytes, and a loop device gives {} of them",
                              volume.place, path, inside.size, given);
        out.break_with(make_finding(Code::MediumRootDamaged, std::move(text), out.evidence, no_medium));
        return found_root;
    }
    out.state = State::Holds;
    out.text = fmt::format("the packed root file system is there ({})", files.front());
    return found_root;
}

}  // namespace herberge
