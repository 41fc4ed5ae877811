// SPDX-License-Identifier: MIT
#include "walk/artifacts.hpp"

#include <fmt/format.h>

#include <herberge/budget.hpp>

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

}  // namespace

std::shared_ptr<const Result<KernelImage>> Artifacts::kernel(const FileReference& file, KernelEntry entry,
                                                             Processor processor) {
    const std::string key = fmt::format("{}#{}#{}", key_of(file), static_cast<int>(entry), static_cast<int>(processor));
    auto& slot = kernels_[key];
    if (!slot) {
        const auto source = open_reference(file);
        slot = std::make_shared<const Result<KernelImage>>(
            source ? inspect_kernel(*source, entry, processor)
                   : fail(ErrorKind::NotFound, "the kernel cannot be opened", file.place));
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

std::shared_ptr<const Result<Ramdisk>> Artifacts::ramdisk(const std::vector<FileReference>& files) {
    std::string key;
    for (const auto& file : files) key += key_of(file) + ";";
    auto& slot = ramdisks_[key];
    if (!slot) {
        std::vector<Source> parts;
        for (const auto& file : files)
            if (auto source = open_reference(file)) parts.push_back(std::move(source));
        if (parts.empty())
            slot = std::make_shared<const Result<Ramdisk>>(
                fail(ErrorKind::NotFound, "the RAM disk cannot be opened", files.front().place));
        else
            slot = std::make_shared<const Result<Ramdisk>>(
                kept(inspect_ramdisk(*concatenate(std::move(parts), 4, "RAM disk")), files.front().place));
    }
    return slot;
}

}  // namespace herberge::walk
