// SPDX-License-Identifier: MIT
// The boot catalogue of optical media (El Torito 1.0), and the table that makers of discs write into boot images.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class Emulation : std::uint8_t { None, Floppy1200, Floppy1440, Floppy2880, HardDisk, Unknown };
[[nodiscard]] std::string_view emulation_name(Emulation emulation);

/// One entry of the catalogue.
struct CatalogueImage {
    int number = 0;             ///< from 1, in the catalogue's order
    std::uint8_t platform = 0;  ///< 0: x86 BIOS, 0xEF: UEFI; what its section says
    bool listed = true;         ///< a section counts it; UEFI firmware takes it all the same where none does
    bool bootable = false;
    Emulation emulation = Emulation::None;
    std::uint16_t segment = 0x07C0;  ///< where a BIOS loads it to
    std::uint32_t sectors = 0;       ///< of 512 bytes that a BIOS loads
    std::uint64_t offset = 0;        ///< bytes from the medium's start
    std::uint64_t entry_at = 0;      ///< bytes from the medium's start to the entry itself
};

struct BootCatalogue {
    std::uint64_t offset = 0;  ///< bytes from the medium's start
    std::vector<CatalogueImage> images;
    /// Why a BIOS refuses the catalogue as a whole, and the number it shows (SeaBIOS, src/cdrom.c); none: it does not.
    std::optional<Error> refused;
    int refusal_code = 0;
    bool checksum_holds = true;  ///< of the validation entry; a BIOS of today does not look at it
    /// Why UEFI firmware takes no image from it (EDK II, MdeModulePkg/Universal/Disk/PartitionDxe/ElTorito.c); none: it
    /// does.
    std::optional<Error> passed_over;
};

/// The catalogue that the boot record in sector 17 names; none: no such record.
[[nodiscard]] std::optional<BootCatalogue> read_boot_catalogue(const ByteSource& medium);
/// What stands for it where sector 17 of a disc has no boot record: refused by all firmware, without images.
[[nodiscard]] BootCatalogue no_boot_catalogue(const ByteSource& medium);

/// The table at byte 8 of a boot image: where the image itself lies, and a checksum over it.
struct BootInformationTable {
    std::uint64_t descriptor_block = 0;
    std::uint64_t file_block = 0;  ///< of 2048 bytes; 0: no table was written
    std::uint64_t length = 0;      ///< bytes
    std::uint32_t checksum = 0;
};
[[nodiscard]] Result<BootInformationTable> read_boot_information(const ByteSource& medium, std::uint64_t image_offset);
/// The sum that the table should hold, over `length` bytes of the image. Errors: OutOfRange, TooLarge (16 MiB).
[[nodiscard]] Result<std::uint32_t> boot_image_checksum(const ByteSource& medium, std::uint64_t image_offset,
                                                        std::uint64_t length);

}  // namespace herberge
