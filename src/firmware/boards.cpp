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

consteval NextPlace behind(std::uint64_t bytes) { return {NextPlace::By::Behind, bytes, {}}; }
consteval NextPlace byte(std::uint64_t at) { return {NextPlace::By::Byte, at, {}}; }
consteval NextPlace file(std::string_view name) { return {NextPlace::By::File, 0, name}; }
consteval NextPlace named(std::string_view name) { return {NextPlace::By::Name, 0, name}; }
consteval NextPlace typed(std::string_view type) { return {NextPlace::By::Type, 0, type}; }

// One function for each family: what its boards share.

consteval Board uefi(std::string_view name, std::string_view title, Processor processor, std::string_view console) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .rom = BoardRom::Uefi,
            .console = console,
            .source = uefi_source};
}

consteval Board emulated(std::string_view name, std::string_view title, Processor processor,
                         std::string_view compatible, std::uint64_t ram_at, std::string_view console,
                         std::string_view source) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .medium = "virtio",
            .compatible = compatible,
            .ram_at = ram_at,
            .ram_size = 128 * mib,
            .console = console,
            .source = source};
}

consteval Board with_a_card(std::string_view name, std::string_view title, Processor processor) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .medium = "mmc",
            .console = "ttyS0",
            .source = distro_source};
}

/// `second`: no_place where older ROMs look at one place alone; those start from no boot area, either.
consteval Board allwinner(std::string_view name, std::string_view title, Processor processor, std::uint64_t second,
                          std::uint64_t room, std::uint64_t ram_at, std::uint64_t ram_size) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .rom = BoardRom::Egon,
            .places = {8 * kib, second},
            .area_at = second != no_place ? 0 : no_place,
            .most_first = room,
            .next = {behind(32 * kib)},
            .medium = "mmc",
            .ram_at = ram_at,
            .ram_size = ram_size,
            .console = "ttyS0",
            .source = sunxi_source};
}

consteval Board rockchip(std::string_view name, std::string_view title, Processor processor, std::uint64_t room,
                         std::string_view console) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .rom = BoardRom::Rockchip,
            .places = {32 * kib, 544 * kib},
            .most_first = room,
            .next = {byte(8 * mib)},
            .medium = "mmc",
            .console = console,
            .source = rockchip_source};
}

consteval Board imx(std::string_view name, std::string_view title, Processor processor, std::uint64_t at,
                    std::uint64_t area_at, std::uint64_t chip_ram_at, std::uint64_t room, std::array<NextPlace, 2> next,
                    std::uint64_t ram_at) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .rom = BoardRom::Imx,
            .places = {at, no_place},
            .area_at = area_at,
            .chip_ram_at = chip_ram_at,
            .most_first = room,
            .next = next,
            .medium = "mmc",
            .ram_at = ram_at,
            .console = processor == Processor::Arm ? "ttymxc0" : "ttymxc1",
            .source = imx_source};
}

consteval Board ti(std::string_view name, std::string_view title, std::uint64_t chip_ram_at, std::uint64_t room,
                   std::string_view console) {
    return {.name = name,
            .title = title,
            .processor = Processor::Arm,
            .rom = BoardRom::Ti,
            .chip_ram_at = chip_ram_at,
            .most_first = room,
            .next = {file("u-boot.img"), byte(384 * kib)},
            .medium = "mmc",
            .ram_at = 0x80000000,
            .console = console,
            .source = ti_source};
}

consteval Board risc_v(std::string_view name, std::string_view title, std::string_view type, RomHead head,
                       std::array<NextPlace, 2> next, std::uint64_t ram_at, std::string_view console,
                       std::string_view source) {
    return {.name = name,
            .title = title,
            .processor = Processor::Riscv64,
            .rom = BoardRom::PartitionType,
            .most_first = 2 * mib,
            .first_type = type,
            .rom_head = head,
            .next = next,
            .medium = "mmc",
            .ram_at = ram_at,
            .console = console,
            .source = source};
}

consteval Board raspberry(std::string_view name, std::string_view title, Processor processor,
                          std::string_view console) {
    return {.name = name,
            .title = title,
            .processor = processor,
            .rom = BoardRom::VideoCore,
            .medium = "mmc",
            .console = console,
            .source = raspberry_source};
}

constexpr Board rows[] = {
    uefi("uefi-arm64", "an arm64 machine with UEFI firmware", Processor::Arm64, "ttyAMA0"),
    uefi("uefi-riscv64", "a RISC-V machine with UEFI firmware", Processor::Riscv64, "ttyS0"),
    uefi("uefi-arm", "a 32-bit ARM machine with UEFI firmware", Processor::Arm, "ttyAMA0"),
    emulated("uboot-qemu-arm64", "an emulated arm64 board (virt) with U-Boot in its flash", Processor::Arm64,
             "linux,dummy-virt", 0x40000000, "ttyAMA0", qemu_source),
    emulated("uboot-qemu-arm", "an emulated 32-bit ARM board (virt) with U-Boot in its flash", Processor::Arm,
             "linux,dummy-virt", 0x40000000, "ttyAMA0", qemu_source),
    emulated("uboot-qemu-riscv64", "an emulated RISC-V board (virt) with U-Boot in its flash", Processor::Riscv64,
             "riscv-virtio", 0x80000000, "ttyS0", qemu_riscv_source),
    with_a_card("uboot-arm64", "any arm64 board with U-Boot in its ROM or flash, started from a card",
                Processor::Arm64),
    with_a_card("uboot-arm", "any 32-bit ARM board with U-Boot in its ROM or flash, started from a card",
                Processor::Arm),
    with_a_card("uboot-riscv64", "any RISC-V board with U-Boot in its ROM or flash, started from a card",
                Processor::Riscv64),
    allwinner("sunxi-a10-brom", "Allwinner A10, A13", Processor::Arm, no_place, 24 * kib, 0x40000000, 128 * mib),
    allwinner("sunxi-a20-brom", "Allwinner A20", Processor::Arm, no_place, 24 * kib, 0x40000000, 256 * mib),
    allwinner("sunxi-a80-brom", "Allwinner A80", Processor::Arm, no_place, 40 * kib, 0x20000000, 512 * mib),
    allwinner("sunxi-h3-brom", "Allwinner H3, H2+", Processor::Arm, 128 * kib, 32 * kib, 0x40000000, 256 * mib),
    allwinner("sunxi-a64-brom", "Allwinner A64", Processor::Arm64, 128 * kib, 32 * kib, 0x40000000, 512 * mib),
    allwinner("sunxi-h5-brom", "Allwinner H5", Processor::Arm64, 128 * kib, 32 * kib, 0x40000000, 512 * mib),
    rockchip("rk3288-brom", "Rockchip RK3288", Processor::Arm, 32 * kib, "ttyS2"),
    rockchip("rk3308-brom", "Rockchip RK3308", Processor::Arm64, 252 * kib, "ttyS0"),
    rockchip("rk3328-brom", "Rockchip RK3328", Processor::Arm64, 28 * kib, "ttyS2"),
    rockchip("rk3368-brom", "Rockchip RK3368", Processor::Arm64, 28 * kib, "ttyS2"),
    rockchip("rk3399-brom", "Rockchip RK3399", Processor::Arm64, 184 * kib, "ttyS2"),
    rockchip("rk3568-brom", "Rockchip RK3568", Processor::Arm64, 76 * kib, "ttyS2"),
    rockchip("rk3588-brom", "Rockchip RK3588", Processor::Arm64, 1020 * kib, "ttyS2"),
    imx("imx53-brom", "NXP i.MX 53", Processor::Arm, 1 * kib, no_place, 0xF8000000, 128 * kib, {byte(69 * kib)},
        0x70000000),
    imx("imx6-brom", "NXP i.MX 6", Processor::Arm, 1 * kib, 1 * kib, 0x00900000, 256 * kib,
        {byte(69 * kib), file("u-boot.img")}, 0x10000000),
    imx("imx7-brom", "NXP i.MX 7", Processor::Arm, 1 * kib, 1 * kib, 0x00900000, 256 * kib,
        {byte(69 * kib), file("u-boot.img")}, 0x80000000),
    imx("imx8mm-brom", "NXP i.MX 8M, 8M Mini", Processor::Arm64, 33 * kib, 33 * kib, 0x007E0000, 256 * kib,
        {byte(384 * kib)}, 0x40000000),
    imx("imx8mp-brom", "NXP i.MX 8M Nano, 8M Plus", Processor::Arm64, 32 * kib, 0, 0x00900000, 576 * kib,
        {byte(384 * kib)}, 0x40000000),
    ti("am335x-brom", "TI AM335x", 0x402F0400, 109 * kib, "ttyS0"),
    ti("omap3-brom", "TI OMAP3, DM37x", 0x40200000, 60 * kib, "ttyS2"),
    ti("omap4-brom", "TI OMAP4", 0x40300000, 48 * kib, "ttyS2"),
    ti("am57xx-brom", "TI AM57xx, DRA7xx", 0x40300000, 512 * kib, "ttyS2"),
    {.name = "stm32mp1-brom",
     .title = "ST STM32MP1",
     .processor = Processor::Arm,
     .rom = BoardRom::Stm32mp,
     .places = {64 * kib, 320 * kib},
     .area_at = 0,
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
     .console = "ttyPS0",
     .source = zynq_source},
    {.name = "amlogic-gx-brom",
     .title = "Amlogic S905, S905X, S912",
     .processor = Processor::Arm64,
     .rom = BoardRom::Amlogic,
     .places = {512, no_place},
     .area_at = 512,
     .most_first = 48 * kib,
     .medium = "mmc",
     .console = "ttyAML0",
     .source = amlogic_source},
    risc_v("fu740-rom", "SiFive FU540, FU740", "5b193300-fc78-40cd-8002-e86c45580b47", RomHead::None,
           {typed("2e54b353-1271-4842-806f-e436d6af6985")}, 0x80000000, "ttySIF0", sifive_source),
    risc_v("jh7110-rom", "StarFive JH7110", "2e54b353-1271-4842-806f-e436d6af6985", RomHead::Starfive,
           {typed("bc13c2ff-59e6-4262-a352-b275fd6f7172"), typed("5b193300-fc78-40cd-8002-e86c45580b47")}, 0x40000000,
           "ttyS0", starfive_source),
    raspberry("rpi-1", "Raspberry Pi 1, Zero", Processor::Arm, "ttyAMA0"),
    raspberry("rpi-2", "Raspberry Pi 2", Processor::Arm, "ttyAMA0"),
    raspberry("rpi-3", "Raspberry Pi 3, Zero 2", Processor::Arm64, "ttyS0"),
    raspberry("rpi-4", "Raspberry Pi 4, 400", Processor::Arm64, "ttyS0"),
    raspberry("rpi-5", "Raspberry Pi 5, 500", Processor::Arm64, "ttyAMA10"),
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
