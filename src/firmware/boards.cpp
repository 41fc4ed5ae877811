// SPDX-License-Identifier: MIT
// The table of boards.
#include <herberge/board.hpp>

#include <algorithm>

#include "firmware/rom.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t kib = 1024;
constexpr std::uint64_t mib = kib * 1024;

constexpr std::string_view uefi_source = "UEFI specification 2.10, section 3.5.1.1";
constexpr std::string_view qemu_source = "U-Boot doc/board/emulation/qemu-arm.rst, include/configs/qemu-arm.h";
constexpr std::string_view qemu_riscv_source =
    "U-Boot doc/board/emulation/qemu-riscv.rst, include/configs/qemu-riscv.h";
constexpr std::string_view distro_source = "U-Boot doc/develop/distro.rst";
constexpr std::string_view sunxi_source = "U-Boot doc/board/allwinner/sunxi.rst, arch/arm/mach-sunxi";
constexpr std::string_view rockchip_source = "U-Boot doc/board/rockchip/rockchip.rst, tools/rkcommon.c";
constexpr std::string_view imx_source =
    "the chip's reference manual, \"System Boot\"; U-Boot doc/imx, include/imximage.h";
constexpr std::string_view ti_source = "AM335x reference manual, chapter 26; U-Boot doc/board/ti, tools/omapimage.c";
constexpr std::string_view stm32_source = "U-Boot doc/board/st/stm32mp1.rst, tools/stm32image.c";
constexpr std::string_view zynq_source = "Zynq-7000 reference manual, 6.3; U-Boot tools/zynqimage.c";
constexpr std::string_view amlogic_source = "U-Boot doc/board/amlogic";
constexpr std::string_view sifive_source = "U-Boot doc/board/sifive/unmatched.rst";
constexpr std::string_view starfive_source = "U-Boot doc/board/starfive/visionfive2.rst, tools/sfspl.c";
constexpr std::string_view raspberry_source = "Raspberry Pi documentation, \"config.txt\" and \"Boot flow\"";

constexpr NextPlace behind(std::uint64_t bytes) { return {NextPlace::By::Behind, bytes, {}}; }
constexpr NextPlace byte(std::uint64_t at) { return {NextPlace::By::Byte, at, {}}; }
constexpr NextPlace file(std::string_view name) { return {NextPlace::By::File, 0, name}; }
constexpr NextPlace named(std::string_view name) { return {NextPlace::By::Name, 0, name}; }
constexpr NextPlace typed(std::string_view type) { return {NextPlace::By::Type, 0, type}; }

constexpr Board rows[] = {
    {.name = "uefi-arm64",
     .title = "an arm64 machine with UEFI firmware",
     .processor = Processor::Arm64,
     .rom = BoardRom::Uefi,
     .console = "ttyAMA0",
     .source = uefi_source},
    {.name = "uefi-riscv64",
     .title = "a RISC-V machine with UEFI firmware",
     .processor = Processor::Riscv64,
     .rom = BoardRom::Uefi,
     .console = "ttyS0",
     .source = uefi_source},
    {.name = "uefi-arm",
     .title = "a 32-bit ARM machine with UEFI firmware",
     .processor = Processor::Arm,
     .rom = BoardRom::Uefi,
     .console = "ttyAMA0",
     .source = uefi_source},
    {.name = "uboot-qemu-arm64",
     .title = "an emulated arm64 board (virt) with U-Boot in its flash",
     .processor = Processor::Arm64,
     .medium = "virtio",
     .compatible = "linux,dummy-virt",
     .ram_at = 0x40000000,
     .ram_size = 128 * mib,
     .console = "ttyAMA0",
     .source = qemu_source},
    {.name = "uboot-qemu-arm",
     .title = "an emulated 32-bit ARM board (virt) with U-Boot in its flash",
     .processor = Processor::Arm,
     .medium = "virtio",
     .compatible = "linux,dummy-virt",
     .ram_at = 0x40000000,
     .ram_size = 128 * mib,
     .console = "ttyAMA0",
     .source = qemu_source},
    {.name = "uboot-qemu-riscv64",
     .title = "an emulated RISC-V board (virt) with U-Boot in its flash",
     .processor = Processor::Riscv64,
     .medium = "virtio",
     .compatible = "riscv-virtio",
     .ram_at = 0x80000000,
     .ram_size = 128 * mib,
     .console = "ttyS0",
     .source = qemu_riscv_source},
    {.name = "uboot-arm64",
     .title = "any arm64 board with U-Boot in its ROM or flash, started from a card",
     .processor = Processor::Arm64,
     .medium = "mmc",
     .console = "ttyS0",
     .source = distro_source},
    {.name = "uboot-arm",
     .title = "any 32-bit ARM board with U-Boot in its ROM or flash, started from a card",
     .processor = Processor::Arm,
     .medium = "mmc",
     .console = "ttyS0",
     .source = distro_source},
    {.name = "uboot-riscv64",
     .title = "any RISC-V board with U-Boot in its ROM or flash, started from a card",
     .processor = Processor::Riscv64,
     .medium = "mmc",
     .console = "ttyS0",
     .source = distro_source},
    {.name = "sunxi-a10-brom",
     .title = "Allwinner A10, A13",
     .processor = Processor::Arm,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 0},
     .most_first = 24 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .ram_size = 128 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "sunxi-a20-brom",
     .title = "Allwinner A20",
     .processor = Processor::Arm,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 0},
     .most_first = 24 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .ram_size = 256 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "sunxi-a80-brom",
     .title = "Allwinner A80",
     .processor = Processor::Arm,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 0},
     .most_first = 40 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x20000000,
     .ram_size = 512 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "sunxi-h3-brom",
     .title = "Allwinner H3, H2+",
     .processor = Processor::Arm,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 128 * kib},
     .most_first = 32 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .ram_size = 256 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "sunxi-a64-brom",
     .title = "Allwinner A64",
     .processor = Processor::Arm64,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 128 * kib},
     .most_first = 32 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .ram_size = 512 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "sunxi-h5-brom",
     .title = "Allwinner H5",
     .processor = Processor::Arm64,
     .rom = BoardRom::Egon,
     .places = {8 * kib, 128 * kib},
     .most_first = 32 * kib,
     .next = {behind(32 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .ram_size = 512 * mib,
     .console = "ttyS0",
     .source = sunxi_source},
    {.name = "rk3288-brom",
     .title = "Rockchip RK3288",
     .processor = Processor::Arm,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 32 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "rk3308-brom",
     .title = "Rockchip RK3308",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 252 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS0",
     .source = rockchip_source},
    {.name = "rk3328-brom",
     .title = "Rockchip RK3328",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 28 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "rk3368-brom",
     .title = "Rockchip RK3368",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 28 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "rk3399-brom",
     .title = "Rockchip RK3399",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 184 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "rk3568-brom",
     .title = "Rockchip RK3568",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 76 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "rk3588-brom",
     .title = "Rockchip RK3588",
     .processor = Processor::Arm64,
     .rom = BoardRom::Rockchip,
     .places = {32 * kib, 544 * kib},
     .most_first = 1020 * kib,
     .next = {byte(8 * mib)},
     .medium = "mmc",
     .console = "ttyS2",
     .source = rockchip_source},
    {.name = "imx53-brom",
     .title = "NXP i.MX 53",
     .processor = Processor::Arm,
     .rom = BoardRom::Imx,
     .places = {1 * kib},
     .chip_ram_at = 0xF8000000,
     .most_first = 128 * kib,
     .next = {byte(69 * kib)},
     .medium = "mmc",
     .ram_at = 0x70000000,
     .console = "ttymxc0",
     .source = imx_source},
    {.name = "imx6-brom",
     .title = "NXP i.MX 6",
     .processor = Processor::Arm,
     .rom = BoardRom::Imx,
     .places = {1 * kib},
     .chip_ram_at = 0x00900000,
     .most_first = 256 * kib,
     .next = {byte(69 * kib), file("u-boot.img")},
     .medium = "mmc",
     .ram_at = 0x10000000,
     .console = "ttymxc0",
     .source = imx_source},
    {.name = "imx7-brom",
     .title = "NXP i.MX 7",
     .processor = Processor::Arm,
     .rom = BoardRom::Imx,
     .places = {1 * kib},
     .chip_ram_at = 0x00900000,
     .most_first = 256 * kib,
     .next = {byte(69 * kib), file("u-boot.img")},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttymxc0",
     .source = imx_source},
    {.name = "imx8mm-brom",
     .title = "NXP i.MX 8M, 8M Mini",
     .processor = Processor::Arm64,
     .rom = BoardRom::Imx,
     .places = {33 * kib},
     .chip_ram_at = 0x007E0000,
     .most_first = 256 * kib,
     .next = {byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .console = "ttymxc1",
     .source = imx_source},
    {.name = "imx8mp-brom",
     .title = "NXP i.MX 8M Nano, 8M Plus",
     .processor = Processor::Arm64,
     .rom = BoardRom::Imx,
     .places = {32 * kib},
     .chip_ram_at = 0x00900000,
     .most_first = 576 * kib,
     .next = {byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .console = "ttymxc1",
     .source = imx_source},
    {.name = "am335x-brom",
     .title = "TI AM335x",
     .processor = Processor::Arm,
     .rom = BoardRom::Ti,
     .chip_ram_at = 0x402F0400,
     .most_first = 109 * kib,
     .next = {file("u-boot.img"), byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttyS0",
     .source = ti_source},
    {.name = "omap3-brom",
     .title = "TI OMAP3, DM37x",
     .processor = Processor::Arm,
     .rom = BoardRom::Ti,
     .chip_ram_at = 0x40200000,
     .most_first = 60 * kib,
     .next = {file("u-boot.img"), byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttyS2",
     .source = ti_source},
    {.name = "omap4-brom",
     .title = "TI OMAP4",
     .processor = Processor::Arm,
     .rom = BoardRom::Ti,
     .chip_ram_at = 0x40300000,
     .most_first = 48 * kib,
     .next = {file("u-boot.img"), byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttyS2",
     .source = ti_source},
    {.name = "am57xx-brom",
     .title = "TI AM57xx, DRA7xx",
     .processor = Processor::Arm,
     .rom = BoardRom::Ti,
     .chip_ram_at = 0x40300000,
     .most_first = 512 * kib,
     .next = {file("u-boot.img"), byte(384 * kib)},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttyS2",
     .source = ti_source},
    {.name = "stm32mp1-brom",
     .title = "ST STM32MP1",
     .processor = Processor::Arm,
     .rom = BoardRom::Stm32mp,
     .most_first = 247 * kib,
     .next = {named("fip"), named("ssbl")},
     .medium = "mmc",
     .ram_at = 0xC0000000,
     .console = "ttySTM0",
     .source = stm32_source},
    {.name = "zynq7000-brom",
     .title = "Xilinx Zynq-7000",
     .processor = Processor::Arm,
     .rom = BoardRom::Zynq,
     .most_first = 192 * kib,
     .next = {file("u-boot.img"), file("u-boot.itb")},
     .medium = "mmc",
     .ram_at = 0x0,
     .console = "ttyPS0",
     .source = zynq_source},
    {.name = "amlogic-gx-brom",
     .title = "Amlogic S905, S905X, S912",
     .processor = Processor::Arm64,
     .rom = BoardRom::Amlogic,
     .places = {512},
     .most_first = 48 * kib,
     .medium = "mmc",
     .console = "ttyAML0",
     .source = amlogic_source},
    {.name = "fu740-rom",
     .title = "SiFive FU540, FU740",
     .processor = Processor::Riscv64,
     .rom = BoardRom::PartitionType,
     .most_first = 2 * mib,
     .first_type = "5b193300-fc78-40cd-8002-e86c45580b47",
     .next = {typed("2e54b353-1271-4842-806f-e436d6af6985")},
     .medium = "mmc",
     .ram_at = 0x80000000,
     .console = "ttySIF0",
     .source = sifive_source},
    {.name = "jh7110-rom",
     .title = "StarFive JH7110",
     .processor = Processor::Riscv64,
     .rom = BoardRom::PartitionType,
     .most_first = 2 * mib,
     .first_type = "2e54b353-1271-4842-806f-e436d6af6985",
     .rom_head = RomHead::Starfive,
     .next = {typed("bc13c2ff-59e6-4262-a352-b275fd6f7172"), typed("5b193300-fc78-40cd-8002-e86c45580b47")},
     .medium = "mmc",
     .ram_at = 0x40000000,
     .console = "ttyS0",
     .source = starfive_source},
    {.name = "rpi-1",
     .title = "Raspberry Pi 1, Zero",
     .processor = Processor::Arm,
     .rom = BoardRom::VideoCore,
     .medium = "mmc",
     .console = "ttyAMA0",
     .source = raspberry_source},
    {.name = "rpi-2",
     .title = "Raspberry Pi 2",
     .processor = Processor::Arm,
     .rom = BoardRom::VideoCore,
     .medium = "mmc",
     .console = "ttyAMA0",
     .source = raspberry_source},
    {.name = "rpi-3",
     .title = "Raspberry Pi 3, Zero 2",
     .processor = Processor::Arm64,
     .rom = BoardRom::VideoCore,
     .medium = "mmc",
     .console = "ttyS0",
     .source = raspberry_source},
    {.name = "rpi-4",
     .title = "Raspberry Pi 4, 400",
     .processor = Processor::Arm64,
     .rom = BoardRom::VideoCore,
     .medium = "mmc",
     .console = "ttyS0",
     .source = raspberry_source},
    {.name = "rpi-5",
     .title = "Raspberry Pi 5, 500",
     .processor = Processor::Arm64,
     .rom = BoardRom::VideoCore,
     .medium = "mmc",
     .console = "ttyAMA10",
     .source = raspberry_source},
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
        case BoardRom::Uefi: return "what boot options name, or the fallback file on a FAT volume: /EFI/BOOT/BOOT….EFI";
        case BoardRom::Rockchip: return "an ID block at sector 64: enciphered, or with the mark RKNS and SHA-256";
        case BoardRom::Imx: return "an image vector table (d1 00 20 4x) at byte 1024, 32768 or 33792";
        case BoardRom::Ti:
            return "a table with CHSETTINGS at byte 0, 131072, 262144 or 393216, or the file MLO on the active FAT "
                   "partition";
        case BoardRom::Stm32mp:
            return "a program with the mark STM2 and a checksum, in the GPT partition fsbl1 or fsbl2";
        case BoardRom::Zynq: return "the file BOOT.BIN with its boot header, on the first partition";
        case BoardRom::Amlogic: return "a package with the mark @AML, from sector 1 on";
        case BoardRom::PartitionType: return "a GPT partition with a type of its own";
        case BoardRom::VideoCore: return "the firmware's files on the first FAT volume, and what config.txt says";
        case BoardRom::Uboot: break;
    }
    return "nothing on the disk: U-Boot runs at once and looks at partitions";
}

std::optional<EfiMachine> uefi_of(const Board& board) {
    if (board.rom != BoardRom::Uefi) return std::nullopt;
    return efi_machine_for(board.processor).machine;
}

namespace {

bool has_file(const std::vector<VolumeRef>& volumes, std::string_view path) {
    return std::ranges::any_of(volumes, [&](const VolumeRef& volume) {
        const auto* fs = volume->files(Observer::Uefi);
        return fs != nullptr && resolve(*fs, path);
    });
}

/// The Raspberry Pi's own files: those of the model's part.
bool fits_raspberry(const Board& board, const std::vector<VolumeRef>& volumes) {
    if (board.name == "rpi-5")
        return has_file(volumes, "/kernel_2712.img") || has_file(volumes, "/bcm2712-rpi-5-b.dtb");
    if (board.name == "rpi-4") return has_file(volumes, "/start4.elf");
    const std::string_view kernel = board.name == "rpi-1" ? "/kernel.img" : "/kernel7.img";
    return has_file(volumes, "/bootcode.bin") && has_file(volumes, "/start.elf") &&
           (has_file(volumes, kernel) || has_file(volumes, "/config.txt"));
}

}  // namespace

std::vector<const Board*> fitting_boards(const Machine& machine) {
    std::vector<const Board*> out;
    const auto volumes = uefi_volumes(machine).volumes;
    for (const auto& board : rows) {
        bool fits = false;
        if (const auto kind = uefi_of(board)) fits = has_file(volumes, efi_fallback_path(*kind));
        else if (board.rom == BoardRom::VideoCore) fits = fits_raspberry(board, volumes);
        else {
            const auto found = search_rom(machine, board).program;
            fits = found && !found->refused;
        }
        if (fits) out.push_back(&board);
    }
    return out;
}

}  // namespace herberge
