// SPDX-License-Identifier: MIT
// PE headers (Microsoft "PE Format": "COFF File Header", "Optional Header").
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct PeFileHeader {
    Bytes<4> mark;  ///< "PE" 0 0
    little_uint16_t machine;
    little_uint16_t sections;
    little_uint32_t made;
    little_uint32_t symbols;
    little_uint32_t symbol_count;
    little_uint16_t optional_size;
    little_uint16_t characteristics;
};
BOOST_DESCRIBE_STRUCT(PeFileHeader, (),
                      (mark, machine, sections, made, symbols, symbol_count, optional_size, characteristics))
static_assert(sizeof(PeFileHeader) == 24);

/// The fields of the optional header that lie at the same place in both kinds.
struct PeOptional {
    little_uint16_t magic;  ///< 0x10B 32 bits, 0x20B 64 bits
    Bytes<2> linker;
    little_uint32_t code_size;
    little_uint32_t data_size;
    little_uint32_t bss_size;
    little_uint32_t entry;
    little_uint32_t code_base;
    Bytes<8> base;
    little_uint32_t section_alignment;
    little_uint32_t file_alignment;
    Bytes<16> versions;
    little_uint32_t image_size;
    little_uint32_t header_size;
    little_uint32_t checksum;
    little_uint16_t subsystem;
    little_uint16_t dll_characteristics;
};
BOOST_DESCRIBE_STRUCT(PeOptional, (),
                      (magic, linker, code_size, data_size, bss_size, entry, code_base, base, section_alignment,
                       file_alignment, versions, image_size, header_size, checksum, subsystem, dll_characteristics))
static_assert(sizeof(PeOptional) == 72);

/// A block of base relocations: entries of two bytes follow.
struct PeRelocationBlock {
    little_uint32_t page;  ///< address, relative to the image's base
    little_uint32_t size;  ///< bytes, with this head
};
BOOST_DESCRIBE_STRUCT(PeRelocationBlock, (), (page, size))
static_assert(sizeof(PeRelocationBlock) == 8);

struct PeSectionHeader {
    Bytes<8> name;
    little_uint32_t virtual_size;
    little_uint32_t address;
    little_uint32_t file_size;
    little_uint32_t file_offset;
    Bytes<12> relocations;
    little_uint32_t characteristics;
};
BOOST_DESCRIBE_STRUCT(PeSectionHeader, (),
                      (name, virtual_size, address, file_size, file_offset, relocations, characteristics))
static_assert(sizeof(PeSectionHeader) == 40);

struct PeDirectory {
    little_uint32_t address;
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(PeDirectory, (), (address, size))
static_assert(sizeof(PeDirectory) == 8);

struct PeImport {
    little_uint32_t lookup;
    little_uint32_t made;
    little_uint32_t chain;
    little_uint32_t name;
    little_uint32_t addresses;
};
BOOST_DESCRIBE_STRUCT(PeImport, (), (lookup, made, chain, name, addresses))
static_assert(sizeof(PeImport) == 20);

}  // namespace herberge::ondisk
