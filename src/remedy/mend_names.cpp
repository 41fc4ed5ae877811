// SPDX-License-Identifier: MIT
// Files that are not where they are looked for: under another name, in another folder, behind a link that is gone.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/hive.hpp>
#include <herberge/places.hpp>
#include <herberge/system.hpp>

#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t most_copied = std::uint64_t{32} << 20U;
constexpr std::size_t most_looked_at = 4000;

const FileSystem* files_of(const Machine& machine, const std::string& place) {
    const auto volume = machine.at(place);
    return volume != nullptr ? volume->files(Observer::Linux) : nullptr;
}

/// A file that the stage asks for and that is not there: its place, the deepest folder on the way that is there, what
/// is missing below it, and the rest of the path.
struct Missing {
    FilePlace place;
    const FileSystem* files = nullptr;
    std::string above;    ///< "/boot/grub"
    std::string name;     ///< "i386-pc"
    std::string further;  ///< "/normal.mod"; empty: `name` is the file itself
};

std::vector<Missing> missing_files(const Case& stopped) {
    std::vector<Missing> out;
    for (const auto& evidence : stopped.rung.evidence) {
        const auto place = file_place(evidence.place);
        const auto* fs = place ? files_of(stopped.machine, place->volume) : nullptr;
        if (fs == nullptr || resolve(*fs, place->path)) continue;
        Missing one{*place, fs, "/", {}, {}};
        for (std::size_t at = 1; at < place->path.size();) {
            const auto end = std::min(place->path.find('/', at), place->path.size());
            const auto found = resolve(*fs, place->path.substr(0, end));
            if (!found || (found->file.type != FileType::Directory && end < place->path.size())) {
                one.name = place->path.substr(at, end - at);
                one.further = place->path.substr(end);
                break;
            }
            one.above = place->path.substr(0, end);
            at = end + 1;
        }
        if (!one.name.empty()) out.push_back(std::move(one));
    }
    return out;
}

std::string joined(const std::string& folder, const std::string& name) {
    return folder.ends_with('/') ? folder + name : folder + "/" + name;
}

std::vector<DirEntry> entries_of(const FileSystem& fs, const std::string& folder) {
    const auto found = resolve(fs, folder);
    auto list = found ? fs.list(found->file.id) : tl::unexpected(found.error());
    return list ? std::move(*list) : std::vector<DirEntry>{};
}

/// The folder has another name: it holds what is looked for.
void renamed_folder(const Missing& one, std::vector<Idea>& out) {
    if (one.further.empty()) return;
    std::size_t looked = 0;
    for (const auto& entry : entries_of(*one.files, one.above)) {
        if (entry.name == "." || entry.name == ".." || ++looked > most_looked_at) continue;
        const auto now = joined(one.above, entry.name);
        const auto found = resolve(*one.files, now + one.further);
        if (!found || found->file.type != FileType::Regular) continue;
        out.push_back({fmt::format("give the folder {}:{} its name {} back", one.place.volume, now, one.name),
                       "what looks for it under its present name does not find it any more",
                       [place = FilePlace{one.place.volume, now}, name = one.name](Workshop& shop) {
                           return rename_file(shop, place.volume, place.path, name);
                       },
                       6});
    }
}

/// A copy under a name that is put aside files by: "bootmgr.bak", "init.old", "normal.mod~".
void put_aside(const Case& stopped, const Missing& one, std::vector<Idea>& out) {
    if (!one.further.empty()) return;
    const auto wanted = lower_text(one.name);
    for (const auto& entry : entries_of(*one.files, one.above)) {
        const auto name = lower_text(entry.name);
        const bool aside =
            name != wanted && name.size() <= wanted.size() + 8 && (name.starts_with(wanted) || name.ends_with(wanted));
        if (!aside) continue;
        const FilePlace from{one.place.volume, joined(one.above, entry.name)};
        const auto file = open_file(stopped.machine, from);
        auto bytes = file ? file->bytes->bytes(0, file->bytes->size(), most_copied) : tl::unexpected(file.error());
        if (!bytes) continue;
        out.push_back({fmt::format("copy {} to {}", from.text(), one.place.text()),
                       "it may have been put aside for a reason",
                       [to = one.place, bytes = std::move(*bytes),
                        mode = file->found.file.permissions](Workshop& shop) -> Result<void> {
                           if (auto done = put_file(shop, to.volume, to.path, bytes); !done) return done;
                           (void)set_permissions(shop, to.volume, to.path, mode);
                           return {};
                       },
                       7});
    }
}

/// Folders in which Windows keeps further copies of its own files.
std::vector<std::string> stores_of(const InstalledSystem& system, const std::string& name) {
    const auto* fs = system.volume->files(Observer::Linux);
    std::vector<std::string> out;
    if (fs == nullptr) return out;
    const auto keep = [&](const std::string& path) {
        if (const auto found = resolve(*fs, path); found && found->file.type == FileType::Regular) out.push_back(path);
    };
    for (const char* folder : {"/Boot/PCAT", "/Boot/EFI", "/system32/dllcache", "/ServicePackFiles/i386", "/System32",
                               "/System32/drivers", "/SysWOW64"})
        keep(fmt::format("{}{}/{}", system.directory, folder, name));
    for (const char* folder : {"/WinSxS", "/System32/DriverStore/FileRepository"}) {
        std::size_t looked = 0;
        for (const auto& entry : entries_of(*fs, system.directory + folder)) {
            if (entry.type != FileType::Directory || ++looked > most_looked_at) continue;
            keep(fmt::format("{}{}/{}/{}", system.directory, folder, entry.name, name));
        }
    }
    return out;
}

void windows_copies(const Case& stopped, const Missing& one, std::vector<Idea>& out) {
    constexpr std::size_t most = 6;
    const auto slash = one.place.path.rfind('/');
    const auto name = one.place.path.substr(slash + 1);
    std::size_t offered = 0;
    for (const auto& system : find_systems(stopped.machine)) {
        if (system.kind != SystemKind::Windows) continue;
        for (const auto& path : stores_of(system, name)) {
            const FilePlace from{system.volume->place, path};
            const auto file = open_file(stopped.machine, from);
            auto bytes = file ? file->bytes->bytes(0, file->bytes->size(), most_copied) : tl::unexpected(file.error());
            if (!bytes || ++offered > most) continue;
            out.push_back({fmt::format("copy {} to {}", from.text(), one.place.text()),
                           "it is of the version that lies there, which may be another one",
                           [to = one.place, bytes = std::move(*bytes)](Workshop& shop) {
                               return put_file(shop, to.volume, to.path, bytes);
                           },
                           5});
        }
    }
}

/// Copies of the registry that Windows itself puts aside: of the last start that went well, and of its installation.
void hive_backups(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& evidence : stopped.rung.evidence) {
        const auto place = file_place(evidence.place);
        const auto at = place ? lower_text(place->path).find("/system32/config/") : std::string::npos;
        if (at == std::string::npos) continue;
        const auto windows = place->path.substr(0, at);
        const auto name = place->path.substr(place->path.rfind('/') + 1);
        for (const auto& from : {fmt::format("{}/System32/config/RegBack/{}", windows, name),
                                 fmt::format("{}/repair/{}", windows, name)}) {
            const auto file = open_file(stopped.machine, {place->volume, from});
            const auto hive = file ? open_hive(file->bytes) : tl::unexpected(file.error());
            if (!hive || (*hive)->state() != HiveState::Clean) continue;
            auto bytes = file->bytes->bytes(0, file->bytes->size(), std::uint64_t{256} << 20U);
            if (!bytes) continue;
            out.push_back({fmt::format("copy {}:{} to {}", place->volume, from, place->text()),
                           "what was installed or set since that copy was made is not in it",
                           [to = *place, bytes = std::move(*bytes)](Workshop& shop) {
                               return put_file(shop, to.volume, to.path, bytes);
                           },
                           6});
        }
    }
}

void offer_link(const std::string& volume, const std::string& path, const std::string& target, int rank,
                std::vector<Idea>& out) {
    out.push_back({fmt::format("make the link {}:{} to {}", volume, path, target),
                   {},
                   [volume, path, target](Workshop& shop) -> Result<void> {
                       // One that leads nowhere has the name.
                       (void)hide_file(shop, volume, path);
                       return put_link(shop, volume, path, target);
                   },
                   rank});
}

/// Links that every Linux has: of its folders into /usr, of its init to the program.
void usual_links(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.system.place || stopped.rung.stage < Stage::Root) return;
    const auto& place = *stopped.system.place;
    const auto* fs = files_of(stopped.machine, place);
    if (fs == nullptr) return;
    const auto is = [&](const std::string& path, FileType type) {
        const auto found = resolve(*fs, path);
        return found && found->file.type == type;
    };
    for (const char* name : {"bin", "sbin", "lib", "lib64"})
        if (!resolve(*fs, fmt::format("/{}", name)) && is(fmt::format("/usr/{}", name), FileType::Directory))
            offer_link(place, fmt::format("/{}", name), fmt::format("usr/{}", name), 8, out);
    if (stopped.rung.stage != Stage::Init || resolve(*fs, "/sbin/init")) return;
    for (const char* program : {"/usr/lib/systemd/systemd", "/lib/systemd/systemd", "/usr/sbin/openrc-init",
                                "/sbin/openrc-init", "/usr/bin/busybox", "/bin/busybox"}) {
        if (!is(program, FileType::Regular)) continue;
        // Where the folder is a link into /usr, the name belongs there.
        const auto folder = resolve(*fs, "/sbin");
        if (folder) offer_link(place, folder->path + "/init", program, 14, out);
    }
}

/// Folders that the kernel's own file systems are mounted on.
void usual_folders(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::InitFolderMissing)) return;
    for (const auto& evidence : stopped.rung.evidence) {
        const auto place = file_place(evidence.place);
        if (!place) continue;
        out.push_back({fmt::format("make the folder {}", place->text()),
                       {},
                       [place = *place](Workshop& shop) -> Result<void> {
                           // Something else may have the name.
                           (void)hide_file(shop, place.volume, place.path);
                           return put_folder(shop, place.volume, place.path);
                       },
                       8});
    }
}

}  // namespace

void propose_names(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& one : missing_files(stopped)) {
        renamed_folder(one, out);
        put_aside(stopped, one, out);
        windows_copies(stopped, one, out);
    }
    hive_backups(stopped, out);
    usual_links(stopped, out);
    usual_folders(stopped, out);
}

}  // namespace herberge::remedy
