// SPDX-License-Identifier: MIT
// What lies where on the machine's disks, for reads that arrive as sector numbers.
#pragma once

#include <map>
#include <string>
#include <vector>

#include <herberge/rehearsal.hpp>
#include <herberge/storage.hpp>

namespace herberge::rehearsal {

struct Lies {
    std::string text;
    PlaceKind kind = PlaceKind::Nowhere;
};

class Places {
public:
    /// `files`: also the files of the directories that boot loaders use.
    Places(const Machine& machine, bool files);
    /// "d1 first sector", "d1p1 boot sector", "d1p1:/boot/vmlinuz", "d1p1", "gap of d1".
    [[nodiscard]] Lies at(int disk, std::uint64_t offset) const;

private:
    void add_directory(const Volume& volume, const std::string& path, int depth);
    const Machine& machine_;
    /// By disk, then by end of the range: start and name.
    std::map<int, std::map<std::uint64_t, std::pair<std::uint64_t, std::string>>> files_;
    std::size_t count_ = 0;
};

}  // namespace herberge::rehearsal
