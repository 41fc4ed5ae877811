// SPDX-License-Identifier: MIT
// Portable Executable images (Microsoft "PE Format" specification).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

struct PeSection {
    std::string name;
    std::uint32_t address = 0;       ///< relative to the image's base
    std::uint32_t virtual_size = 0;  ///< bytes in memory
    std::uint32_t file_offset = 0;
    std::uint32_t file_size = 0;
};

struct PeImage {
    std::uint16_t machine = 0;    ///< 0x8664 x86-64, 0x14C i386, 0xAA64 AArch64 …
    bool wide = false;            ///< PE32+
    std::uint16_t subsystem = 0;  ///< 1 native, 10 EFI application, 16 Windows boot application
    std::uint16_t characteristics = 0;
    std::uint32_t entry = 0;
    std::uint64_t base = 0;              ///< the address it was linked for
    std::uint32_t relocations = 0;       ///< address of its relocations, relative to the base
    std::uint32_t relocations_size = 0;  ///< bytes; 0: none
    std::uint32_t image_size = 0;
    std::uint32_t header_size = 0;
    std::uint32_t stored_checksum = 0;
    std::uint64_t sections_at = 0;    ///< where the table of sections lies, from the image's start
    std::uint16_t section_count = 0;  ///< as the header says; `sections` has at most 4096
    std::vector<PeSection> sections;
    std::vector<std::string> imports;  ///< names of the files it imports from
    std::uint64_t checksum_at = 0;     ///< where its stored checksum lies, from the image's start
    std::uint64_t directories_at = 0;  ///< where the table of data directories lies, from the image's start
    std::uint32_t directories = 0;     ///< how many there are, as the header has it
    std::uint64_t certificates_offset = 0;
    std::uint64_t certificates_size = 0;  ///< 0: not signed inside
    std::uint64_t end = 0;                ///< bytes of the file that headers, sections and certificates cover
    bool complete = true;                 ///< the file has all of them

    [[nodiscard]] bool signed_inside() const { return certificates_size != 0; }
};

/// "x86-64", "i386" …
[[nodiscard]] std::string pe_machine_name(std::uint16_t machine);

/// The headers of the image that begins at `offset` of `file`. Errors: Malformed (no such image), OutOfRange.
[[nodiscard]] Result<PeImage> inspect_pe(const ByteSource& file, std::uint64_t offset = 0);

/// The bytes of a section as they lie in the file, without what only fills it up; empty: no such section, or
/// unreadable. At most `most` bytes.
[[nodiscard]] std::vector<std::uint8_t> pe_section(const ByteSource& file, const PeImage& image, std::string_view name,
                                                   std::uint64_t most = std::uint64_t{1} << 20U);

/// What an image's version resource says.
struct PeVersion {
    std::string file_version;     ///< "10.0.19041.1"; empty: not told
    std::string product_version;  ///< the same form
    std::string product;          ///< "Almhof Window Workplace"
    std::string description;
    std::string product_version_text;  ///< as the maker writes it
};
/// None: no version resource that could be read.
[[nodiscard]] std::optional<PeVersion> pe_version(const ByteSource& file);

/// The checksum the header should hold (ImageHlp's algorithm). Reads the whole file, at most 256 MiB.
[[nodiscard]] Result<std::uint32_t> pe_checksum(const ByteSource& file);

}  // namespace herberge
