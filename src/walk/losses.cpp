// SPDX-License-Identifier: MIT
#include "walk/losses.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "firmware/fat_blocks.hpp"
#include "loader/family.hpp"
#include "system/ramdisk_screens.hpp"

namespace herberge::walk {

namespace {

/// GRUB reads a file by the blocks of its volume: the first byte on the disk of the one that has this byte.
std::uint64_t block_of(const VolumeRef& volume, std::uint64_t byte) {
    const auto begin = volume != nullptr ? volume->source->locate(0, 1) : std::vector<DiskRange>{};
    if (begin.empty() || volume->info.block_size == 0 || byte < begin.front().offset) return byte;
    return byte - (byte - begin.front().offset) % volume->info.block_size;
}

}  // namespace

bool Losses::firmware_reads() const { return entry_.started_by == KernelEntry::Efi && !menu_.reads_by_itself; }

std::string Losses::kernel_screen(const Error& error) const {
    if (!error.unreadable()) return "error: " + error.what;
    const FileReference& kernel = entry_.kernel.front();
    if (menu_.goes_on_at_losses)
        return fmt::format("Loading {}... {}(and the kernel is started without it)", kernel.written,
                           loader::syslinux_disk_errors(error.byte));
    if (firmware_reads()) {
        // RAM disks come first: one that lies beside what is lost may fail before.
        const bool beside = std::ranges::any_of(entry_.ramdisks, [](const FileReference& file) {
            return file.volume != nullptr && lost_beside(*file.volume, file.real_path);
        });
        std::string name = kernel.written;
        std::ranges::replace(name, '/', '\\');
        return beside ? fmt::format("Error preparing initrd: Device Error (or: Error loading {}: Not Found)", name)
                      : fmt::format("Error loading {}: Not Found", name);
    }
    return fmt::format("error: failure reading sector 0x{:x}", block_of(kernel.volume, error.byte) / 512);
}

std::string Losses::ramdisk_screen(const Error& error) const {
    // What other loaders leave out the kernel stumbles over.
    return firmware_reads() && error.unreadable() ? "Error preparing initrd: Device Error" : std::string(root_panic);
}

void Losses::doubt_ramdisks(Claim& claim) const {
    if (!menu_.goes_on_at_losses) return;
    for (const auto& file : entry_.ramdisks) {
        const auto source = open_reference(file);
        const auto lost = source != nullptr ? lost_within(*source) : std::nullopt;
        if (!lost) continue;
        claim.text += fmt::format("; a part of {} cannot be read, and the loader goes on without it", file.where());
        claim.evidence.push_back(evidence_error(*lost));
        if (claim.state != State::Breaks) claim.state = State::Unknown;
    }
}

void Losses::doubt_beside(Ladder& ladder, Stage stage, const FileReference& file) const {
    if (!firmware_reads() || file.volume == nullptr) return;
    const auto lost = lost_beside(*file.volume, file.real_path);
    if (!lost || ladder.at(stage).state == State::Breaks) return;
    auto evidence = ladder.at(stage).evidence;
    evidence.push_back(evidence_error(*lost));
    ladder.set(stage, State::Unknown, ladder.at(stage).text + lost_beside_text(file.real_path), std::move(evidence));
}

}  // namespace herberge::walk
