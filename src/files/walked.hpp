// SPDX-License-Identifier: MIT
// Finding and listing names in directories whose entries are walked one by one.
#pragma once

#include <fmt/format.h>

#include <herberge/files.hpp>

namespace herberge::walked {

/// `walk(visit)` calls `visit` with each DirEntry until it gives false. NotFound, at `place`, when none has the name.
template <class Walk>
Result<FileId> lookup(const Walk& walk, std::string_view name, std::string place) {
    std::optional<FileId> found;
    const auto done = walk([&](const DirEntry& entry) {
        if (entry.name == name) found = entry.id;
        return !found;
    });
    if (found) return *found;
    if (!done) return tl::unexpected(done.error());
    return fail(ErrorKind::NotFound, fmt::format("no “{}” in the directory", printable(name)), std::move(place));
}

template <class Walk>
Result<std::vector<DirEntry>> list(const Walk& walk) {
    std::vector<DirEntry> out;
    const auto done = walk([&](const DirEntry& entry) {
        out.push_back(entry);
        return true;
    });
    if (!done) return tl::unexpected(done.error());
    return out;
}

}  // namespace herberge::walked
