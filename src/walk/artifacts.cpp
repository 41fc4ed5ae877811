// SPDX-License-Identifier: MIT
#include "walk/artifacts.hpp"

#include <fmt/format.h>

#include <herberge/budget.hpp>

#include "bytes/lost.hpp"
#include "loader/family.hpp"

namespace herberge::walk {

Source open_reference(const FileReference& file) {
    auto source = loader::open_file(file);
    if (source == nullptr || !file.part) return source;
    auto place = fmt::format("{} (a section)", source->place());
    return slice(std::move(source), file.part->first, file.part->second, std::move(place));
}

namespace {

/// Tells apart whatever an entry names.
std::string key_of(const FileReference& file) {
    return fmt::format("{}#{}#{}",
                       file.bytes != nullptr    ? file.place
                       : file.volume != nullptr ? file.volume->place
                                                : "",
                       file.file, file.part ? file.part->first : 0);
}

/// A kernel whose set-up code alone has lost sectors, for a loader that reads the header in it and what lies behind it
/// (GRUB: loader/i386/linux.c); none: more is lost.
std::optional<KernelImage> without_setup(const Source& source, Processor processor) {
    constexpr std::uint64_t header_end = 1024;
    const auto image = inspect_kernel(*zeros_for_losses(source), KernelEntry::Protected, processor);
    if (!image || !image->setup_header) return std::nullopt;
    const std::uint64_t setup_end = (std::uint64_t{image->setup_sectors} + 1) * 512;
    if (lost_within(*source, 0, header_end) || lost_within(*source, setup_end)) return std::nullopt;
    auto lost = lost_within(*source, header_end, setup_end - header_end);
    if (!lost) return std::nullopt;
    lost->what = "a part of its set-up code cannot be read";
    KernelImage out = *image;
    out.setup_damage = std::move(*lost);
    out.evidence.push_back(evidence_error(*out.setup_damage));
    out.soundness = Soundness::Unknown;
    out.changed_since_build = false;
    return out;
}

}  // namespace

std::shared_ptr<const Result<KernelImage>> Artifacts::kernel(const FileReference& file, KernelEntry entry,
                                                             Processor processor) {
    const std::string key = fmt::format("{}#{}#{}", key_of(file), static_cast<int>(entry), static_cast<int>(processor));
    auto& slot = kernels_[key];
    if (!slot) {
        const auto source = open_reference(file);
        auto image = source ? inspect_kernel(*source, entry, processor)
                            : fail(ErrorKind::NotFound, "the kernel cannot be opened", file.place);
        if (!image && image.error().unreadable() && entry == KernelEntry::Protected)
            if (auto without = without_setup(source, processor)) image = std::move(*without);
        // Loaders read all of it, what is behind the kernel itself, too; those of real mode go on without that. What
        // its build's CRC-32 was computed over has been read.
        const auto lost = image && !image->setup_damage && entry != KernelEntry::RealMode
                              ? lost_within(*source, image->crc_matches ? image->expected_size : 0)
                              : std::nullopt;
        if (lost) image = tl::unexpected(*lost);
        slot = std::make_shared<const Result<KernelImage>>(std::move(image));
    }
    return slot;
}

std::optional<bool> Artifacts::mentions(const FileReference& file, const KernelImage& image, std::string_view words) {
    const std::string key = fmt::format("{}#{}", key_of(file), words);
    if (const auto known = mentions_.find(key); known != mentions_.end()) return known->second;
    const auto source = open_reference(file);
    const auto told = source ? kernel_mentions(*source, image, words) : fail(ErrorKind::NotFound, "no kernel");
    return mentions_[key] = told ? std::optional(*told) : std::nullopt;
}

namespace {

/// What stays in memory until the walk ends is charged to it: names, and the files that steer the start.
Result<Ramdisk> kept(Result<Ramdisk> ramdisk, const std::string& place) {
    constexpr std::uint64_t entry = 128;  // of the map, beside its text
    if (!ramdisk) return ramdisk;
    std::uint64_t bytes = 0;
    for (const auto& [name, file] : ramdisk->files)
        bytes += entry + name.size() + file.target.size() + file.content.size();
    if (auto charged = charge(Cost::Kept, bytes, place); !charged) return tl::unexpected(charged.error());
    return ramdisk;
}

}  // namespace

std::shared_ptr<const Result<Ramdisk>> Artifacts::ramdisk(const std::vector<FileReference>& files, bool goes_on) {
    std::string key = goes_on ? "goes on " : "";
    for (const auto& file : files) key += key_of(file) + ";";
    auto& slot = ramdisks_[key];
    if (!slot) {
        std::vector<Source> parts;
        for (const auto& file : files)
            if (auto source = open_reference(file))
                parts.push_back(goes_on ? zeros_for_losses(std::move(source)) : std::move(source));
        if (parts.empty())
            slot = std::make_shared<const Result<Ramdisk>>(
                fail(ErrorKind::NotFound, "the RAM disk cannot be opened", files.front().place));
        else {
            const auto whole = concatenate(std::move(parts), 4, "RAM disk");
            auto ramdisk = kept(inspect_ramdisk(*whole), files.front().place);
            // Loaders read what lies behind its archives, too.
            if (const auto lost = ramdisk ? lost_within(*whole) : std::nullopt) ramdisk = tl::unexpected(*lost);
            slot = std::make_shared<const Result<Ramdisk>>(std::move(ramdisk));
        }
    }
    return slot;
}

}  // namespace herberge::walk
