// SPDX-License-Identifier: MIT
#include <herberge/places.hpp>

namespace herberge {

std::optional<FilePlace> file_place(std::string_view place) {
    const auto colon = place.find(":/");
    if (colon == std::string_view::npos || colon == 0) return std::nullopt;
    return FilePlace{std::string(place.substr(0, colon)), std::string(place.substr(colon + 1))};
}

Result<PlacedFile> open_file(const Machine& machine, const FilePlace& place) {
    const auto volume = machine.at(place.volume);
    if (volume == nullptr) return fail(ErrorKind::NotFound, "there is no such volume", place.volume);
    const auto* fs = volume->files(Observer::Linux);
    if (fs == nullptr)
        return tl::unexpected(
            volume->problem(Observer::Linux)
                .value_or(Error{ErrorKind::NotFound, "there is nothing that holds files", place.volume, {}, {}}));
    auto found = resolve(*fs, place.path);
    if (!found) return tl::unexpected(found.error());
    if (found->file.type != FileType::Regular)
        return fail(ErrorKind::WrongType, "this is no regular file", place.text());
    auto bytes = fs->open(found->file.id, FilePlace{volume->place, found->path}.text());
    if (!bytes) return tl::unexpected(bytes.error());
    return PlacedFile{volume, std::move(*found), std::move(*bytes)};
}

}  // namespace herberge
