// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/optical.hpp>

#include "ondisk/iso9660.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t block = 2048;
constexpr std::uint64_t record_at = 17 * block;
constexpr std::size_t most_images = 64;
constexpr std::size_t entry_size = sizeof(ondisk::CatalogueEntry);

Emulation emulation_of(std::uint8_t media) {
    const unsigned kind = media & 0x0FU;
    return kind <= 4 ? static_cast<Emulation>(kind) : Emulation::Unknown;
}

}  // namespace

std::string_view emulation_name(Emulation emulation) {
    switch (emulation) {
        case Emulation::None: return "no emulation";
        case Emulation::Floppy1200: return "as a 1.2 MB floppy disk";
        case Emulation::Floppy1440: return "as a 1.44 MB floppy disk";
        case Emulation::Floppy2880: return "as a 2.88 MB floppy disk";
        case Emulation::HardDisk: return "as a hard disk";
        case Emulation::Unknown: break;
    }
    return "unknown emulation";
}

std::optional<BootCatalogue> read_boot_catalogue(const ByteSource& medium) {
    const auto record = medium.load<ondisk::IsoBootRecord>(record_at);
    static constexpr std::string_view mark = "EL TORITO SPECIFICATION";
    const auto same = [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; };
    if (!record || record->type != 0 || !std::equal(mark.begin(), mark.end(), record->system.begin(), same))
        return std::nullopt;
    BootCatalogue out;
    out.offset = std::uint64_t{record->catalogue} * block;
    const auto refuse = [&](int code, std::string what, std::uint64_t at, std::string expected, std::string found) {
        out.refused = Error{ErrorKind::Malformed, std::move(what), fmt::format("{} byte {}", medium.place(), at),
                            std::move(expected), std::move(found)};
        out.refusal_code = code;
        return out;
    };
    const auto bytes = out.offset < medium.size()
                           ? medium.bytes(out.offset, std::min(block, medium.size() - out.offset))
                           : fail(ErrorKind::OutOfRange, "the boot catalogue lies past the end of the medium");
    if (!bytes || bytes->size() < 2 * entry_size)
        return refuse(7, "the boot catalogue cannot be read", record_at + offsetof(ondisk::IsoBootRecord, catalogue),
                      "a block of the medium", fmt::format("block {}", static_cast<std::uint32_t>(record->catalogue)));
    const auto check = ondisk::from_bytes<ondisk::CatalogueValidation>(*bytes);
    if (check.header != 1)
        return refuse(8, "the boot catalogue does not begin with a validation entry", out.offset, "01",
                      fmt::format("{:02x}", check.header));
    std::uint16_t sum = 0;
    for (std::size_t i = 0; i < entry_size; i += 2)
        sum = static_cast<std::uint16_t>(sum + ondisk::from_bytes<ondisk::little_uint16_t>(*bytes, i));
    out.checksum_holds = sum == 0;
    std::uint8_t platform = check.platform;
    const auto add = [&](std::size_t at) {
        const auto entry = ondisk::from_bytes<ondisk::CatalogueEntry>(*bytes, at);
        CatalogueImage image;
        image.number = static_cast<int>(out.images.size()) + 1;
        image.platform = platform;
        image.bootable = entry.bootable == 0x88;
        image.emulation = emulation_of(entry.media);
        image.segment = entry.segment != 0 ? static_cast<std::uint16_t>(entry.segment) : std::uint16_t{0x07C0};
        image.sectors = entry.sectors;
        image.offset = std::uint64_t{entry.block} * block;
        image.entry_at = out.offset + at;
        out.images.push_back(image);
    };
    add(entry_size);
    for (std::size_t at = 2 * entry_size; at + entry_size <= bytes->size();) {
        const auto section = ondisk::from_bytes<ondisk::CatalogueSection>(*bytes, at);
        if (section.header != 0x90 && section.header != 0x91) break;
        platform = section.platform;
        at += entry_size;
        for (unsigned i = 0; i < section.entries && at + entry_size <= bytes->size() && out.images.size() < most_images;
             ++i) {
            add(at);
            at += entry_size;
            // Extensions of selection criteria (El Torito, figure 6).
            while (at + entry_size <= bytes->size() && (*bytes)[at] == 0x44) at += entry_size;
        }
        if (section.header == 0x91) break;
    }
    // What follows is what a BIOS looks at, in its order.
    if (check.platform != 0)
        return refuse(9, "the boot catalogue's first entry is for another platform", out.offset + 1, "00 (x86)",
                      fmt::format("{:02x}", check.platform));
    if (check.key[0] != 0x55 || check.key[1] != 0xAA)
        return refuse(10, "the boot catalogue's validation entry lacks its mark", out.offset + 30, "55 aa",
                      hex(check.key));
    if (!out.images.front().bootable)
        return refuse(11, "the boot catalogue's first entry is marked as not bootable", out.offset + entry_size, "88",
                      fmt::format("{:02x}", (*bytes)[entry_size]));
    return out;
}

Result<BootInformationTable> read_boot_information(const ByteSource& medium, std::uint64_t image_offset) {
    const auto table = medium.load<ondisk::BootInformation>(image_offset + 8);
    if (!table) return tl::unexpected(table.error());
    return BootInformationTable{table->descriptor, table->file, table->length, table->checksum};
}

Result<std::uint32_t> boot_image_checksum(const ByteSource& medium, std::uint64_t image_offset, std::uint64_t length) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    constexpr std::uint64_t covered_from = 64;
    if (length < covered_from)
        return fail(ErrorKind::OutOfRange, "a boot image shorter than its own table", medium.place());
    // The last dword may reach past the image: blocks are filled with zeros.
    const auto bytes = medium.bytes(image_offset + covered_from, length - covered_from, most);
    if (!bytes) return tl::unexpected(bytes.error());
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < bytes->size(); ++i) sum += std::uint32_t{(*bytes)[i]} << (i % 4 * 8);
    return sum;
}

}  // namespace herberge
