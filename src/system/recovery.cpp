// SPDX-License-Identifier: MIT
#include "system/recovery.hpp"

#include <fmt/format.h>
#include <pugixml.hpp>

#include <herberge/startup.hpp>
#include <herberge/wim.hpp>

#include "system/windows.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_folders = 100;

/// Name and version that the texts of an imaging file give to its image `number`.
void name_by_texts(const WimFile& told, InstalledSystem& out) {
    pugi::xml_document texts;
    if (!texts.load_buffer(told.description.data(), told.description.size(), pugi::parse_default, pugi::encoding_utf8))
        return;
    for (const auto image : texts.child("WIM").children("IMAGE")) {
        if (image.attribute("INDEX").as_uint() != std::max(told.boot_image, std::uint32_t{1})) continue;
        out.name = printable(image.child_value("NAME"));
        const auto version = image.child("WINDOWS").child("VERSION");
        for (const char* part : {"MAJOR", "MINOR", "BUILD"})
            if (const std::string value = printable(version.child_value(part)); !value.empty())
                out.version += (out.version.empty() ? "" : ".") + value;
    }
}

std::optional<InstalledSystem> recovery_at(const Volume& volume, const FileSystem& fs, const std::string& path) {
    const auto found = resolve(fs, path);
    if (!found || found->file.type != FileType::Regular) return std::nullopt;
    InstalledSystem out;
    out.kind = SystemKind::Recovery;
    out.volume = volume.shared_from_this();
    out.directory = out.mark = found->path;
    if (const auto file = fs.open(found->file.id, volume.place + ":" + path))
        if (const auto told = inspect_wim(**file)) name_by_texts(*told, out);
    if (out.name.empty()) out.name = "Windows Recovery Environment";
    return out;
}

}  // namespace

std::vector<InstalledSystem> find_recovery(const Volume& volume) {
    std::vector<InstalledSystem> out;
    const FileSystem* fs = volume.files(Observer::Nt);
    if (fs == nullptr || !fs->ignores_case()) return out;
    // In the folder WindowsRE, or in one named by a GUID.
    const auto top = resolve(*fs, "/Recovery");
    const auto folders =
        top && top->file.type == FileType::Directory ? fs->list(top->file.id) : fail(ErrorKind::NotFound, "none");
    if (!folders) return out;
    std::size_t looked = 0;
    for (const auto& folder : *folders) {
        if (folder.type == FileType::Regular || folder.name == "." || folder.name == ".." || ++looked > most_folders)
            continue;
        const auto files = fs->list(folder.id);
        if (!files) continue;
        for (const auto& file : *files)
            if (lower_text(file.name) == "winre.wim")
                if (auto system = recovery_at(volume, *fs, fmt::format("{}/{}/{}", top->path, folder.name, file.name)))
                    out.push_back(std::move(*system));
    }
    return out;
}

Result<InstalledSystem> windows_in_image(const InstalledSystem& recovery) {
    const FileSystem* fs = recovery.volume == nullptr ? nullptr : recovery.volume->files(Observer::Nt);
    if (recovery.kind != SystemKind::Recovery || fs == nullptr)
        return fail(ErrorKind::WrongType, "no recovery environment");
    const std::string place = fmt::format("{}:{}", recovery.volume->place, recovery.directory);
    const auto found = resolve(*fs, recovery.directory);
    const auto file = found ? fs->open(found->file.id, place) : tl::unexpected(found.error());
    if (!file) return tl::unexpected(file.error());
    if (const auto told = inspect_wim(**file); !told) return tl::unexpected(told.error());
    const auto inside =
        std::make_shared<const Volume>(NodeKind::PackedFile, *file, std::vector{recovery.volume}, LayerNames{});
    if (inside->files(Observer::Nt) == nullptr) {
        auto problem = inside->problem(Observer::Nt);
        return problem ? tl::unexpected(*problem) : fail(ErrorKind::Malformed, "its files cannot be read", place);
    }
    auto systems = find_windows(*inside);
    if (systems.empty()) return fail(ErrorKind::NotFound, "no Windows lies in it", place);
    if (systems.front().name == "Windows") systems.front().name = recovery.name;
    return std::move(systems.front());
}

}  // namespace herberge
