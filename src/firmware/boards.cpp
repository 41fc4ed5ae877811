// SPDX-License-Identifier: MIT
// The table of boards.
#include <herberge/board.hpp>

#include <algorithm>

#include "firmware/egon.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t kib = 1024;
constexpr std::uint64_t mib = kib * 1024;

constexpr std::string_view qemu_source = "U-Boot doc/board/emulation/qemu-arm.rst, include/configs/qemu-arm.h";
constexpr std::string_view sunxi_source = "U-Boot doc/board/allwinner/sunxi.rst, arch/arm/mach-sunxi";

constexpr Board rows[] = {
    {"uboot-qemu-arm64",
     "an emulated arm64 board (virt) with U-Boot in its flash",
     Processor::Arm64,
     BoardRom::Uboot,
     {},
     0,
     "virtio",
     "linux,dummy-virt",
     0x40000000,
     128 * mib,
     "ttyAMA0",
     qemu_source},
    {"uboot-qemu-arm",
     "an emulated 32-bit ARM board (virt) with U-Boot in its flash",
     Processor::Arm,
     BoardRom::Uboot,
     {},
     0,
     "virtio",
     "linux,dummy-virt",
     0x40000000,
     128 * mib,
     "ttyAMA0",
     qemu_source},
    {"uboot-qemu-riscv64",
     "an emulated RISC-V board (virt) with U-Boot in its flash",
     Processor::Riscv64,
     BoardRom::Uboot,
     {},
     0,
     "virtio",
     "riscv-virtio",
     0x80000000,
     128 * mib,
     "ttyS0",
     "U-Boot doc/board/emulation/qemu-riscv.rst, include/configs/qemu-riscv.h"},
    {"uboot-arm64",
     "any arm64 board with U-Boot in its ROM or flash, started from a card",
     Processor::Arm64,
     BoardRom::Uboot,
     {},
     0,
     "mmc",
     "",
     0,
     0,
     "ttyS0",
     "U-Boot doc/develop/distro.rst"},
    {"uboot-arm",
     "any 32-bit ARM board with U-Boot in its ROM or flash, started from a card",
     Processor::Arm,
     BoardRom::Uboot,
     {},
     0,
     "mmc",
     "",
     0,
     0,
     "ttyS0",
     "U-Boot doc/develop/distro.rst"},
    {"uboot-riscv64",
     "any RISC-V board with U-Boot in its ROM or flash, started from a card",
     Processor::Riscv64,
     BoardRom::Uboot,
     {},
     0,
     "mmc",
     "",
     0,
     0,
     "ttyS0",
     "U-Boot doc/develop/distro.rst"},
    {"sunxi-a10-brom",
     "Allwinner A10, A13",
     Processor::Arm,
     BoardRom::Egon,
     {8 * kib, 0},
     24 * kib,
     "mmc",
     "",
     0x40000000,
     128 * mib,
     "ttyS0",
     sunxi_source},
    {"sunxi-a20-brom",
     "Allwinner A20",
     Processor::Arm,
     BoardRom::Egon,
     {8 * kib, 0},
     24 * kib,
     "mmc",
     "",
     0x40000000,
     256 * mib,
     "ttyS0",
     sunxi_source},
    {"sunxi-h3-brom",
     "Allwinner H3, H2+",
     Processor::Arm,
     BoardRom::Egon,
     {8 * kib, 128 * kib},
     32 * kib,
     "mmc",
     "",
     0x40000000,
     256 * mib,
     "ttyS0",
     sunxi_source},
    {"sunxi-a64-brom",
     "Allwinner A64",
     Processor::Arm64,
     BoardRom::Egon,
     {8 * kib, 128 * kib},
     32 * kib,
     "mmc",
     "",
     0x40000000,
     512 * mib,
     "ttyS0",
     sunxi_source},
    {"sunxi-h5-brom",
     "Allwinner H5",
     Processor::Arm64,
     BoardRom::Egon,
     {8 * kib, 128 * kib},
     32 * kib,
     "mmc",
     "",
     0x40000000,
     512 * mib,
     "ttyS0",
     sunxi_source},
};

}  // namespace

std::span<const Board> boards() { return rows; }

const Board* find_board(std::string_view name) {
    const auto* found = std::ranges::find(rows, name, &Board::name);
    return found != std::end(rows) ? found : nullptr;
}

std::string_view rom_words(BoardRom rom) {
    switch (rom) {
        case BoardRom::Egon: return "a program with the mark eGON.BT0 and a checksum, at byte 8192 (some also 131072)";
        case BoardRom::Uboot: break;
    }
    return "nothing on the disk: U-Boot runs at once and looks at partitions";
}

std::vector<const Board*> fitting_boards(const Machine& machine) {
    std::vector<const Board*> out;
    if (machine.disks.empty() || machine.disks.front().problem) return out;
    const auto& disk = *machine.disks.front().source;
    for (const auto& board : rows) {
        if (board.rom != BoardRom::Egon) continue;
        const auto found = find_egon(disk, board);
        if (found && found->sound() && found->length <= board.most_first) out.push_back(&board);
    }
    return out;
}

}  // namespace herberge
