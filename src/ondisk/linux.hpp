// SPDX-License-Identifier: MIT
// The x86 kernel image (Linux Documentation/x86/boot.rst) and ELF (System V ABI).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// The setup header, from byte 0x1F1 of a bzImage on.
struct LinuxSetup {
    std::uint8_t setup_sectors;
    little_uint16_t root_flags;
    little_uint32_t system_size;  ///< protected-mode part in units of 16 bytes
    little_uint16_t ram_size;
    little_uint16_t video_mode;
    little_uint16_t root_device;
    little_uint16_t boot_flag;  ///< 0xAA55
    little_uint16_t jump;
    Bytes<4> header;  ///< "HdrS"
    little_uint16_t version;
    little_uint32_t realmode_switch;
    little_uint16_t start_system;
    little_uint16_t kernel_version;  ///< pointer to the version text, minus 0x200
    std::uint8_t type_of_loader;
    std::uint8_t load_flags;  ///< bit 0: the protected-mode part loads at 1 MiB
    little_uint16_t setup_move_size;
    little_uint32_t code32_start;
    little_uint32_t ramdisk_image;
    little_uint32_t ramdisk_size;
    little_uint32_t boot_sector_kludge;
    little_uint16_t heap_end;
    std::uint8_t extended_loader_version;
    std::uint8_t extended_loader_type;
    little_uint32_t command_line;
    little_uint32_t ramdisk_max;
    little_uint32_t kernel_alignment;
    std::uint8_t relocatable;
    std::uint8_t min_alignment;
    little_uint16_t extended_flags;  ///< bit 0: 64-bit entry; bits 2 and 3: EFI handover
    little_uint32_t command_line_size;
    little_uint32_t hardware_subarch;
    little_uint64_t hardware_subarch_data;
    little_uint32_t payload_offset;  ///< from the start of the protected-mode part
    little_uint32_t payload_length;
    little_uint64_t setup_data;
    little_uint64_t preferred_address;
    little_uint32_t init_size;
    little_uint32_t handover_offset;
};
BOOST_DESCRIBE_STRUCT(LinuxSetup, (),
                      (setup_sectors, root_flags, system_size, ram_size, video_mode, root_device, boot_flag, jump,
                       header, version, realmode_switch, start_system, kernel_version, type_of_loader, load_flags,
                       setup_move_size, code32_start, ramdisk_image, ramdisk_size, boot_sector_kludge, heap_end,
                       extended_loader_version, extended_loader_type, command_line, ramdisk_max, kernel_alignment,
                       relocatable, min_alignment, extended_flags, command_line_size, hardware_subarch,
                       hardware_subarch_data, payload_offset, payload_length, setup_data, preferred_address, init_size,
                       handover_offset))
static_assert(sizeof(LinuxSetup) == 0x268 - 0x1F1);
static_assert(offsetof(LinuxSetup, payload_offset) == 0x248 - 0x1F1);

struct ElfIdent {
    Bytes<4> magic;
    std::uint8_t elf_class;  ///< 1: 32 bit, 2: 64 bit
    std::uint8_t data;       ///< 1: little endian
    std::uint8_t version;
    std::uint8_t os_abi;
    Bytes<8> pad;
};
BOOST_DESCRIBE_STRUCT(ElfIdent, (), (magic, elf_class, data, version, os_abi, pad))
static_assert(sizeof(ElfIdent) == 16);

struct Elf32 {
    ElfIdent ident;
    little_uint16_t type;
    little_uint16_t machine;
    little_uint32_t version;
    little_uint32_t entry;
    little_uint32_t program_offset;
    little_uint32_t section_offset;
    little_uint32_t flags;
    little_uint16_t header_size;
    little_uint16_t program_entry_size;
    little_uint16_t program_count;
    little_uint16_t section_entry_size;
    little_uint16_t section_count;
    little_uint16_t section_names;
};
BOOST_DESCRIBE_STRUCT(Elf32, (),
                      (ident, type, machine, version, entry, program_offset, section_offset, flags, header_size,
                       program_entry_size, program_count, section_entry_size, section_count, section_names))
static_assert(sizeof(Elf32) == 52);

struct Elf64 {
    ElfIdent ident;
    little_uint16_t type;
    little_uint16_t machine;
    little_uint32_t version;
    little_uint64_t entry;
    little_uint64_t program_offset;
    little_uint64_t section_offset;
    little_uint32_t flags;
    little_uint16_t header_size;
    little_uint16_t program_entry_size;
    little_uint16_t program_count;
    little_uint16_t section_entry_size;
    little_uint16_t section_count;
    little_uint16_t section_names;
};
BOOST_DESCRIBE_STRUCT(Elf64, (),
                      (ident, type, machine, version, entry, program_offset, section_offset, flags, header_size,
                       program_entry_size, program_count, section_entry_size, section_count, section_names))
static_assert(sizeof(Elf64) == 64);

/// The head of /etc/ld.so.cache (glibc sysdeps/generic/dl-cache.h, cache_file_new).
struct LibraryCacheHead {
    Bytes<20> magic;  ///< "glibc-ld.so.cache1.1"
    little_uint32_t entries;
    little_uint32_t strings;
    std::uint8_t flags;
    Bytes<3> unused;
    little_uint32_t extensions;
    Bytes<12> reserved;
};
BOOST_DESCRIBE_STRUCT(LibraryCacheHead, (), (magic, entries, strings, flags, unused, extensions, reserved))
static_assert(sizeof(LibraryCacheHead) == 48);

/// file_entry_new of the same.
struct LibraryCacheEntry {
    little_uint32_t flags;
    little_uint32_t name;  ///< from the head's first byte, as is `path`
    little_uint32_t path;
    little_uint32_t system_version;
    little_uint64_t capabilities;
};
BOOST_DESCRIBE_STRUCT(LibraryCacheEntry, (), (flags, name, path, system_version, capabilities))
static_assert(sizeof(LibraryCacheEntry) == 24);

struct Elf32Section {
    little_uint32_t name;
    little_uint32_t type;
    little_uint32_t flags;
    little_uint32_t address;
    little_uint32_t offset;
    little_uint32_t size;
    little_uint32_t link;
    little_uint32_t info;
    little_uint32_t alignment;
    little_uint32_t entry_size;
};
BOOST_DESCRIBE_STRUCT(Elf32Section, (), (name, type, flags, address, offset, size, link, info, alignment, entry_size))
static_assert(sizeof(Elf32Section) == 40);

struct Elf64Section {
    little_uint32_t name;
    little_uint32_t type;
    little_uint64_t flags;
    little_uint64_t address;
    little_uint64_t offset;
    little_uint64_t size;
    little_uint32_t link;
    little_uint32_t info;
    little_uint64_t alignment;
    little_uint64_t entry_size;
};
BOOST_DESCRIBE_STRUCT(Elf64Section, (), (name, type, flags, address, offset, size, link, info, alignment, entry_size))
static_assert(sizeof(Elf64Section) == 64);

struct Elf32Program {
    little_uint32_t type;
    little_uint32_t offset;
    little_uint32_t virtual_address;
    little_uint32_t physical_address;
    little_uint32_t file_size;
    little_uint32_t memory_size;
    little_uint32_t flags;
    little_uint32_t alignment;
};
BOOST_DESCRIBE_STRUCT(Elf32Program, (),
                      (type, offset, virtual_address, physical_address, file_size, memory_size, flags, alignment))
static_assert(sizeof(Elf32Program) == 32);

struct Elf64Program {
    little_uint32_t type;
    little_uint32_t flags;
    little_uint64_t offset;
    little_uint64_t virtual_address;
    little_uint64_t physical_address;
    little_uint64_t file_size;
    little_uint64_t memory_size;
    little_uint64_t alignment;
};
BOOST_DESCRIBE_STRUCT(Elf64Program, (),
                      (type, flags, offset, virtual_address, physical_address, file_size, memory_size, alignment))
static_assert(sizeof(Elf64Program) == 56);

/// The last 4 KiB block of a Linux swap area's first page ends with its mark (include/linux/swap.h).
struct SwapHeader {
    Bytes<1024> boot_bits;
    little_uint32_t version;
    little_uint32_t last_page;
    little_uint32_t bad_pages;
    Bytes<16> uuid;
    Bytes<16> label;
};
BOOST_DESCRIBE_STRUCT(SwapHeader, (), (boot_bits, version, last_page, bad_pages, uuid, label))
static_assert(sizeof(SwapHeader) == 1068);

struct Elf32Symbol {
    little_uint32_t name;
    little_uint32_t value;
    little_uint32_t size;
    std::uint8_t info;
    std::uint8_t other;
    little_uint16_t section;
};
BOOST_DESCRIBE_STRUCT(Elf32Symbol, (), (name, value, size, info, other, section))
static_assert(sizeof(Elf32Symbol) == 16);

struct Elf64Symbol {
    little_uint32_t name;
    std::uint8_t info;
    std::uint8_t other;
    little_uint16_t section;
    little_uint64_t value;
    little_uint64_t size;
};
BOOST_DESCRIBE_STRUCT(Elf64Symbol, (), (name, info, other, section, value, size))
static_assert(sizeof(Elf64Symbol) == 24);

}  // namespace herberge::ondisk
