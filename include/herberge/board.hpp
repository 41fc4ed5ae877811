// SPDX-License-Identifier: MIT
// Boards: what their ROM starts, and from where.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/storage.hpp>
#include <herberge/uefi.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What runs when a board is switched on.
enum class BoardRom : std::uint8_t {
    Uboot,          ///< U-Boot itself lies in ROM or flash: it looks at partitions at once
    Uefi,           ///< UEFI firmware in ROM or flash: it starts files, as on a PC
    Egon,           ///< Allwinner: a program with the mark eGON.BT0
    Rockchip,       ///< an ID block, enciphered or with the mark RKNS
    Imx,            ///< NXP: an image vector table
    Ti,             ///< a table with CHSETTINGS at one of four places, or the file MLO
    Stm32mp,        ///< ST: partitions fsbl1 and fsbl2, a head with the mark STM2
    Zynq,           ///< Xilinx: the file BOOT.BIN
    Amlogic,        ///< a package with the mark @AML
    PartitionType,  ///< RISC-V boards: a GPT partition of a type of its own
    VideoCore,      ///< Raspberry Pi: files on a FAT volume, by config.txt
};

/// Where a first program looks for the next one.
struct NextPlace {
    enum class By : std::uint8_t {
        Nothing,
        Behind,  ///< behind the first program, and at least so many bytes behind its begin
        Byte,    ///< from the disk's start
        File,    ///< on the volume of the first program, or on the first partition
        Name,    ///< a GPT partition of that name
        Type,    ///< a GPT partition of that type
    };
    By by = By::Nothing;
    std::uint64_t byte = 0;
    std::string_view name;
};

/// Not used, in Board::places.
inline constexpr std::uint64_t no_place = ~std::uint64_t{0};

/// What stands before a first program that lies in a partition of its own.
enum class RomHead : std::uint8_t { None, Starfive };

/// One row of the table of boards. Offsets and sizes are in bytes.
struct Board {
    std::string_view name;   ///< behind "board:" on the command line
    std::string_view title;  ///< for people
    Processor processor = Processor::Arm64;
    BoardRom rom = BoardRom::Uboot;
    /// Where the ROM looks for its first program, from the start of the card or disk.
    std::array<std::uint64_t, 2> places{no_place, no_place};
    /// Where it looks in a boot area partition of an eMMC (JESD84-B51, 6.3); no_place: it starts from none.
    std::uint64_t area_at = no_place;
    std::uint64_t chip_ram_at = 0;  ///< where its memory on the chip begins, as far as that is judged
    std::uint64_t most_first = 0;   ///< memory on the chip for the first program; 0: none is loaded
    std::string_view first_type;    ///< BoardRom::PartitionType: in lower case
    RomHead rom_head = RomHead::None;
    std::array<NextPlace, 2> next{};  ///< best first
    std::string_view medium;          ///< U-Boot's name for what the disks are: "virtio", "mmc"
    std::string_view compatible;      ///< of U-Boot's own device tree, best first, blanks between; empty: as it says
    std::uint64_t ram_at = 0, ram_size = 0;  ///< where memory begins, and the least that there is
    std::string_view console;                ///< the kernel's name for the usual serial line
    std::string_view source;                 ///< where this is written
};
[[nodiscard]] std::span<const Board> boards();
/// What UEFI firmware of this board runs on; none: it has none.
[[nodiscard]] std::optional<EfiMachine> uefi_of(const Board& board);
/// Null: no such board.
[[nodiscard]] const Board* find_board(std::string_view name);
/// What the ROM of `board` looks for, for people.
[[nodiscard]] std::string_view rom_words(BoardRom rom);
/// The boards that would start something from the machine's disks, by what lies there; those with U-Boot in ROM are not
/// among them.
[[nodiscard]] std::vector<const Board*> fitting_boards(const Machine& machine);

}  // namespace herberge
