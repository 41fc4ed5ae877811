// SPDX-License-Identifier: MIT
// Places of files, taken apart and opened.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include <herberge/files.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// "d1p2:/boot/vmlinuz": a volume's place, and a path on it from its root.
struct FilePlace {
    std::string volume;
    std::string path;
    [[nodiscard]] std::string text() const { return volume + ":" + path; }
};
/// None: it names no file of a volume (a disk, a volume, a range of bytes).
[[nodiscard]] std::optional<FilePlace> file_place(std::string_view place);

/// A file that a place leads to, links followed.
struct PlacedFile {
    VolumeRef volume;
    Resolved found;
    Source bytes;
};
/// Opens a regular file as Linux reads its volume. Errors: NotFound (no such volume, or nothing that holds files),
/// WrongType (no regular file), and what following the path and opening give.
[[nodiscard]] Result<PlacedFile> open_file(const Machine& machine, const FilePlace& place);

}  // namespace herberge
