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
    little_uint32_t base_low;   ///< 32 bits: where data begins
    little_uint32_t base_high;  ///< 32 bits: the base itself
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
                      (magic, linker, code_size, data_size, bss_size, entry, code_base, base_low, base_high,
                       section_alignment, file_alignment, versions, image_size, header_size, checksum, subsystem,
                       dll_characteristics))
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

/// The head for MS-DOS, of which only its two ends matter.
struct DosHead {
    Bytes<2> mark;  ///< "MZ"
    Bytes<58> rest;
    little_uint32_t pe_at;  ///< of the PE header
};
BOOST_DESCRIBE_STRUCT(DosHead, (), (mark, rest, pe_at))
static_assert(sizeof(DosHead) == 64);

/// What follows PeOptional in 32-bit images, before the directories.
struct PeOptionalTail32 {
    little_uint32_t stack_reserve;
    little_uint32_t stack_commit;
    little_uint32_t heap_reserve;
    little_uint32_t heap_commit;
    little_uint32_t loader_flags;
    little_uint32_t directories;
};
BOOST_DESCRIBE_STRUCT(PeOptionalTail32, (),
                      (stack_reserve, stack_commit, heap_reserve, heap_commit, loader_flags, directories))
static_assert(sizeof(PeOptionalTail32) == 24);

/// The same in 64-bit images.
struct PeOptionalTail64 {
    little_uint64_t stack_reserve;
    little_uint64_t stack_commit;
    little_uint64_t heap_reserve;
    little_uint64_t heap_commit;
    little_uint32_t loader_flags;
    little_uint32_t directories;
};
BOOST_DESCRIBE_STRUCT(PeOptionalTail64, (),
                      (stack_reserve, stack_commit, heap_reserve, heap_commit, loader_flags, directories))
static_assert(sizeof(PeOptionalTail64) == 40);

/// WIN_CERTIFICATE ("The Attribute Certificate Table"): its data follows.
struct WinCertificate {
    little_uint32_t length;  ///< bytes, with this head
    little_uint16_t revision;
    little_uint16_t type;  ///< 2: PKCS #7
};
BOOST_DESCRIBE_STRUCT(WinCertificate, (), (length, revision, type))
static_assert(sizeof(WinCertificate) == 8);

/// Resource directory table; its entries follow, the named ones first.
struct PeResourceDirectory {
    little_uint32_t characteristics;
    little_uint32_t made;
    little_uint16_t major;
    little_uint16_t minor;
    little_uint16_t named;
    little_uint16_t numbered;
};
BOOST_DESCRIBE_STRUCT(PeResourceDirectory, (), (characteristics, made, major, minor, named, numbered))
static_assert(sizeof(PeResourceDirectory) == 16);

struct PeResourceEntry {
    little_uint32_t id;  ///< or, with the highest bit, where its name is
    little_uint32_t at;  ///< highest bit: a directory
};
BOOST_DESCRIBE_STRUCT(PeResourceEntry, (), (id, at))
static_assert(sizeof(PeResourceEntry) == 8);

struct PeResourceData {
    little_uint32_t address;
    little_uint32_t size;
    little_uint32_t code_page;
    little_uint32_t reserved;
};
BOOST_DESCRIBE_STRUCT(PeResourceData, (), (address, size, code_page, reserved))
static_assert(sizeof(PeResourceData) == 16);

/// Head of VS_VERSIONINFO and of the blocks inside; a key in UTF-16 follows.
struct VersionBlock {
    little_uint16_t length;  ///< bytes, with this head
    little_uint16_t value_length;
    little_uint16_t kind;  ///< 1: text
};
BOOST_DESCRIBE_STRUCT(VersionBlock, (), (length, value_length, kind))
static_assert(sizeof(VersionBlock) == 6);

/// VS_FIXEDFILEINFO.
struct VersionFixed {
    little_uint32_t mark;  ///< 0xFEEF04BD
    little_uint32_t structure;
    little_uint32_t file_high;
    little_uint32_t file_low;
    little_uint32_t product_high;
    little_uint32_t product_low;
    little_uint32_t flags_mask;
    little_uint32_t flags;
    little_uint32_t os;
    little_uint32_t type;
    little_uint32_t subtype;
    little_uint32_t date_high;
    little_uint32_t date_low;
};
BOOST_DESCRIBE_STRUCT(VersionFixed, (),
                      (mark, structure, file_high, file_low, product_high, product_low, flags_mask, flags, os, type,
                       subtype, date_high, date_low))
static_assert(sizeof(VersionFixed) == 52);

}  // namespace herberge::ondisk
