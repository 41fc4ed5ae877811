// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/volume.hpp>

#include "ondisk/linux.hpp"
#include "volume/ext.hpp"

namespace herberge {

namespace {

std::string fixed_text(std::span<const std::uint8_t> bytes) {
    const auto end = std::ranges::find(bytes, std::uint8_t{0});
    return printable(std::string(bytes.begin(), end));
}

/// Linux swap: the mark sits in the last ten bytes of the first page (kernel mm/swapfile.c, 4 KiB pages).
std::optional<VolumeInfo> recognise_swap(const ByteSource& volume) {
    const auto mark = volume.load<ondisk::Bytes<10>>(4096 - 10);
    if (!mark) return std::nullopt;
    static constexpr std::string_view wanted = "SWAPSPACE2";
    if (!std::equal(wanted.begin(), wanted.end(), mark->begin())) return std::nullopt;
    const auto header = volume.load<ondisk::SwapHeader>(0);
    if (!header) return std::nullopt;
    VolumeInfo info;
    info.kind = "swap";
    info.uuid = uuid_text(header->uuid);
    info.label = fixed_text(header->label);
    info.block_size = 4096;
    info.size = (std::uint64_t{header->last_page} + 1) * 4096;
    return info;
}

}  // namespace

VolumeInfo recognise_volume(const ByteSource& volume) {
    if (auto info = recognise_ext(volume)) return *info;
    if (auto info = recognise_swap(volume)) return *info;
    return {};
}

Result<std::shared_ptr<const FileSystem>> open_file_system(const Source& volume, Reader reader) {
    if (recognise_ext(*volume)) return open_ext(volume, reader);
    const auto info = recognise_volume(*volume);
    if (info.kind.empty()) return fail(ErrorKind::NotFound, "no known file system", volume->place());
    return fail(ErrorKind::Unsupported, fmt::format("{} holds no files that could be read", info.kind), volume->place());
}

}  // namespace herberge
