// SPDX-License-Identifier: MIT
// The version resource of an image (Microsoft "PE Format", The .rsrc Section; VS_VERSIONINFO structure).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/pe.hpp>

#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t version_type = 16;
constexpr std::uint32_t fixed_mark = 0xFEEF04BD;
constexpr std::uint64_t most_resources = std::uint64_t{64} << 20U;
constexpr std::uint32_t most_version = 65536;
constexpr unsigned most_entries = 4096;
constexpr unsigned directory_resource = 2;

std::uint32_t word32(std::span<const std::uint8_t> bytes, std::size_t at) {
    return at + 4 <= bytes.size() ? std::uint32_t{ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at)} : 0U;
}
std::uint16_t word16(std::span<const std::uint8_t> bytes, std::size_t at) {
    return at + 2 <= bytes.size() ? std::uint16_t{ondisk::from_bytes<ondisk::little_uint16_t>(bytes, at)}
                                  : std::uint16_t{0};
}

/// The entry of a resource directory with this number (none: the first one); its offset, with the mark of a
/// subdirectory.
std::optional<std::uint32_t> entry_of(const ByteSource& file, std::uint64_t resources, std::uint32_t directory,
                                      std::optional<std::uint32_t> id) {
    const auto head = file.bytes(resources + directory, 16);
    if (!head) return std::nullopt;
    const unsigned count = std::min(most_entries, static_cast<unsigned>(word16(*head, 12)) + word16(*head, 14));
    const auto entries = file.bytes(resources + directory + 16, std::uint64_t{count} * 8);
    if (!entries) return std::nullopt;
    for (unsigned i = 0; i < count; ++i)
        if (!id || word32(*entries, std::size_t{i} * 8) == *id) return word32(*entries, std::size_t{i} * 8 + 4);
    return std::nullopt;
}

/// Text of two-byte units up to a zero; `at` moves behind it.
std::string wide_text(std::span<const std::uint8_t> bytes, std::size_t& at, std::size_t end) {
    std::string out;
    for (; at + 2 <= std::min(end, bytes.size()); at += 2) {
        const std::uint16_t unit = word16(bytes, at);
        if (unit == 0) {
            at += 2;
            break;
        }
        // Letters beyond Latin-1 are rare here, and shown as a question mark.
        if (unit < 0x80) {
            out += static_cast<char>(unit);
        } else if (unit < 0x800) {
            out += static_cast<char>(0xC0U | unit >> 6U);
            out += static_cast<char>(0x80U | (unit & 0x3FU));
        } else {
            out += '?';
        }
    }
    return printable(out);
}

/// A block: length, length of its value, kind, key, value, blocks inside; everything on multiples of four bytes.
void strings_in(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t end, int depth, PeVersion& out) {
    while (at + 6 <= end && depth < 4) {
        const std::size_t length = word16(bytes, at);
        const std::size_t value = word16(bytes, at + 2);
        if (length < 6 || at + length > end) return;
        std::size_t next = at + 6;
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
    const auto pe_at = file.load<ondisk::little_uint32_t>(0x3C);
    if (!image || !pe_at) return std::nullopt;
    const std::uint64_t directories = std::uint64_t{*pe_at} + sizeof(ondisk::PeFileHeader) + (image->wide ? 112 : 96);
    const auto count = file.load<ondisk::little_uint32_t>(directories - 4);
    const auto directory =
        file.load<ondisk::PeDirectory>(directories + directory_resource * sizeof(ondisk::PeDirectory));
    if (!count || *count <= directory_resource || !directory || directory->address == 0) return std::nullopt;
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
    const auto leaf = file.bytes(*resources + *at, 16);
    if (!leaf) return std::nullopt;
    const auto begin = place_of(word32(*leaf, 0));
    const std::uint32_t size = word32(*leaf, 4);
    if (!begin || size < 6 || size > most_version) return std::nullopt;
    const auto bytes = file.bytes(*begin, size);
    if (!bytes) return std::nullopt;
    PeVersion out;
    std::size_t next = 6;
    if (wide_text(*bytes, next, bytes->size()) != "VS_VERSION_INFO") return std::nullopt;
    next = (next + 3) / 4 * 4;
    const std::size_t value = word16(*bytes, 2);
    if (value >= 52 && word32(*bytes, next) == fixed_mark) {
        out.file_version = dotted(word32(*bytes, next + 8), word32(*bytes, next + 12));
        out.product_version = dotted(word32(*bytes, next + 16), word32(*bytes, next + 20));
    }
    next = (next + value + 3) / 4 * 4;
    strings_in(*bytes, next, std::min<std::size_t>(bytes->size(), word16(*bytes, 0)), 0, out);
    return out;
}

}  // namespace herberge
