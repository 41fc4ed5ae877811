// SPDX-License-Identifier: MIT
// A whole volume: recognise, mount checks, walk every directory, read every file.
#include <herberge/herberge.hpp>

#include "files/ext_journal.hpp"
#include "parts.hpp"

namespace {

void visit(const herberge::FileSystem& fs, herberge::FileId directory, int depth, int& budget) {
    const auto names = fs.list(directory);
    if (!names) return;
    for (const auto& entry : *names) {
        if (--budget < 0) return;
        const auto info = fs.stat(entry.id);
        if (!info || entry.name == "." || entry.name == "..") continue;
        if (info->type == herberge::FileType::Directory && depth < 4) visit(fs, entry.id, depth + 1, budget);
        if (info->type == herberge::FileType::Symlink) (void)fs.link_target(entry.id);
        if (info->type != herberge::FileType::Regular) continue;
        const auto file = fs.open(entry.id, entry.name);
        if (file) (void)(*file)->text(1U << 16U);
    }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::span input(data, size);
    const herberge::Source volume = fuzz::is_parts(input) ? std::make_shared<fuzz::PartsSource>(input)
                                                          : herberge::memory_source({data, data + size}, "d1p1", 1);
    for (const auto reader : {herberge::Reader::Loader, herberge::Reader::Kernel}) {
        const auto fs = herberge::open_file_system(volume, reader);
        if (!fs) continue;
        (void)(*fs)->mount_obstacles("ro");
        (void)(*fs)->remarks();
        int budget = 500;
        visit(**fs, (*fs)->root(), 0, budget);
    }
    // Any bytes as the log of a journal.
    if (fuzz::is_parts(input)) return 0;
    const auto replayed = herberge::ext::replay_journal(volume, volume, 1024);
    (void)replayed.volume->bytes(0, size);
    return 0;
}

extern "C" std::size_t LLVMFuzzerCustomMutator(std::uint8_t* data, std::size_t size, std::size_t most, unsigned seed) {
    return fuzz::is_parts({data, size}) ? fuzz::mutate_parts(data, size, seed)
                                        : fuzz::mutate(fuzz::Sums::Volume, 0, data, size, most, seed);
}
