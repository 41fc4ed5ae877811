// SPDX-License-Identifier: MIT
// The version resource of an image (Microsoft "PE Format", The .rsrc Section; VS_VERSIONINFO structure).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/pe.hpp>

#include "bytes/text16.hpp"
#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t version_type = 16;
constexpr std::uint32_t fixed_mark = 0xFEEF04BD;
constexpr std::uint64_t most_resources = std::uint64_t{64} << 20U;
constexpr std::uint32_t most_version = 65536;
constexpr unsigned most_entries = 4096;
constexpr unsigned directory_resource = 2;

/// The entry of a resource directory with this number (none: the first one); its offset, with the mark of a
/// subdirectory.
std::optional<std::uint32_t> entry_of(const ByteSource& file, std::uint64_t resources, std::uint32_t directory,
                                      std::optional<std::uint32_t> id) {
    const auto head = file.load<ondisk::PeResourceDirectory>(resources + directory);
    if (!head) return std::nullopt;
    const unsigned count = std::min(most_entries, unsigned{head->named} + head->numbered);
    for (unsigned i = 0; i < count; ++i) {
        const auto entry = file.load<ondisk::PeResourceEntry>(resources + directory + sizeof(*head) +
                                                              i * sizeof(ondisk::PeResourceEntry));
        if (!entry) return std::nullopt;
        if (!id || entry->id == *id) return std::uint32_t{entry->at};
    }
    return std::nullopt;
}

/// Text of two-byte units up to a zero, or to `end`; `at` moves behind it.
std::string wide_text(std::span<const std::uint8_t> bytes, std::size_t& at, std::size_t end) {
    end = std::min(end, bytes.size());
    if (at >= end) return {};
    const auto units = units_from(bytes.subspan(at, end - at), false, true);
    at = std::min(at + 2 * (units.size() + 1), end);
    return printable(utf8_from(units));
}

/// A block: length, length of its value, kind, key, value, blocks inside; everything on multiples of four bytes.
void strings_in(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t end, int depth, PeVersion& out) {
    while (at + sizeof(ondisk::VersionBlock) <= end && depth < 4) {
        const auto head = ondisk::from_bytes<ondisk::VersionBlock>(bytes, at);
        const std::size_t length = head.length;
        const std::size_t value = head.value_length;
        if (length < sizeof(head) || at + length > end) return;
        std::size_t next = at + sizeof(head);
        const std::string key = wide_text(bytes, next, at + length);
        next = (next + 3) / 4 * 4;
        if (depth < 2) {
            // Beside the strings stands a table of languages.
            if (depth == 0 && key != "StringFileInfo") next = at + length;
            strings_in(bytes, next, at + length, depth + 1, out);
        } else {
            std::size_t place = next;
            const std::string text = value != 0 ? wide_text(bytes, place, at + length) : std::string();
            if (key == "ProductName") out.product = text;
            else if (key == "FileDescription") out.description = text;
            else if (key == "ProductVersion") out.product_version_text = text;
        }
        at = (at + length + 3) / 4 * 4;
    }
}

std::string dotted(std::uint32_t high, std::uint32_t low) {
    return fmt::format("{}.{}.{}.{}", high >> 16U, high & 0xFFFFU, low >> 16U, low & 0xFFFFU);
}

}  // namespace

std::optional<PeVersion> pe_version(const ByteSource& file) {
    const auto image = inspect_pe(file);
    if (!image) return std::nullopt;
    const auto directory =
        file.load<ondisk::PeDirectory>(image->directories_at + directory_resource * sizeof(ondisk::PeDirectory));
    if (image->directories <= directory_resource || !directory || directory->address == 0) return std::nullopt;
    const auto place_of = [&](std::uint32_t address) -> std::optional<std::uint64_t> {
        for (const auto& s : image->sections)
            if (address >= s.address && address - s.address < s.file_size)
                return std::uint64_t{s.file_offset} + (address - s.address);
        return std::nullopt;
    };
    const auto resources = place_of(directory->address);
    if (!resources || directory->size > most_resources) return std::nullopt;
    constexpr std::uint32_t deeper = 0x80000000U;
    auto at = entry_of(file, *resources, 0, version_type);
    for (int level = 0; level < 2 && at && (*at & deeper) != 0; ++level)
        at = entry_of(file, *resources, *at & ~deeper, std::nullopt);
    if (!at || (*at & deeper) != 0) return std::nullopt;
    const auto leaf = file.load<ondisk::PeResourceData>(*resources + *at);
    if (!leaf) return std::nullopt;
    const auto begin = place_of(leaf->address);
    const std::uint32_t size = leaf->size;
    if (!begin || size < sizeof(ondisk::VersionBlock) || size > most_version) return std::nullopt;
    const auto bytes = file.bytes(*begin, size);
    if (!bytes) return std::nullopt;
    PeVersion out;
    const auto head = ondisk::from_bytes<ondisk::VersionBlock>(*bytes);
    std::size_t next = sizeof(head);
    if (wide_text(*bytes, next, bytes->size()) != "VS_VERSION_INFO") return std::nullopt;
    next = (next + 3) / 4 * 4;
    const std::size_t value = head.value_length;
    const auto fixed = ondisk::from_bytes<ondisk::VersionFixed>(*bytes, next);
    if (value >= sizeof(fixed) && fixed.mark == fixed_mark) {
        out.file_version = dotted(fixed.file_high, fixed.file_low);
        out.product_version = dotted(fixed.product_high, fixed.product_low);
    }
    next = (next + value + 3) / 4 * 4;
    strings_in(*bytes, next, std::min<std::size_t>(bytes->size(), head.length), 0, out);
    return out;
}

}  // namespace herberge
