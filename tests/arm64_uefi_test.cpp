// SPDX-License-Identifier: MIT
// UEFI firmware of machines that are no PCs, and the EFI applications that U-Boot starts.
#include "board_support.hpp"
#include "forge/uefi.hpp"
#include "loader/grub/elf_module.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::BoardVerdict;

namespace {

constexpr std::uint16_t aarch64 = 0xAA64;
const char* const root_uuid = "a64a0000-0001-4a01-8a01-0000000a64a0";

Bytes loader(std::uint16_t machine = aarch64) {
    return forge::make_efi_application({{".sdmagic", forge::to_bytes("a stand-in")}}, machine);
}
/// A kernel with an EFI stub: the mark of an arm64 Image in the head of an application.
Bytes kernel(std::uint16_t machine = aarch64) {
    auto out = forge::make_efi_application({{".text", forge::to_bytes("Linux version 6.1.0-almhof (inn)\n")}}, machine);
    const auto mark = forge::to_bytes("ARMd");
    std::ranges::copy(mark, out.begin() + 56);
    return out;
}

/// A disk of a machine in the valley: a boot manager, its entry, a root.
struct Valley {
    forge::Tree esp;
    bool gpt = true;
    Valley() {
        esp.file("/EFI/BOOT/BOOTAA64.EFI", loader());
        entry("");
        esp.file("/vmlinuz", kernel());
    }
    void entry(const std::string& more) {
        esp.file("/loader/entries/inn.conf",
                 "title Almhof\nlinux /vmlinuz\n" + more + "options root=UUID=" + root_uuid + " ro\n");
    }
    [[nodiscard]] Bytes build() const {
        forge::FatOptions fat;
        fat.size = 4U << 20U;
        forge::ExtOptions ext;
        ext.size = 4U << 20U;
        ext.uuid = forge::uuid_from(root_uuid);
        forge::DiskSpec disk;
        disk.gpt = gpt;
        disk.partitions = {{2048, forge::make_fat(esp, fat).bytes, static_cast<std::uint8_t>(gpt ? 0xEF : 0x0C), true},
                           {2048 + (4U << 11U), forge::make_ext(demo::weather_station().root, ext), 0x83, false}};
        return forge::make_disk(disk);
    }
};

std::string hops(const SystemVerdict& system) {
    std::string out;
    for (const auto& hop : system.route) out += hop + "\n";
    return out;
}

TEST(UefiArm64, IsGuessedWhereAllFilesAreForIt) {
    const auto machine = support::machine_of(Valley().build());
    const auto verdict = check(machine, {});
    EXPECT_EQ(verdict.firmware, FirmwareKind::Uefi);
    EXPECT_EQ(verdict.board, "uefi-arm64");
    const auto& system = verdict.systems.at(0);
    EXPECT_TRUE(system.at(Stage::Firmware).text.starts_with("the firmware starts d1p1:/EFI/BOOT/BOOTAA64.EFI"))
        << system.at(Stage::Firmware).text;
    EXPECT_EQ(system.at(Stage::Configuration).state, State::Holds) << system.at(Stage::Configuration).text;
    EXPECT_EQ(system.entry, "Almhof");
    // A PC's file beside it: then it is a PC's disk.
    Valley both;
    both.esp.file("/EFI/BOOT/BOOTX64.EFI", loader(0x8664));
    EXPECT_EQ(check(support::machine_of(both.build()), {}).board, "");
    // Whoever says that it is a PC is believed.
    CheckOptions pc;
    pc.firmware = FirmwareKind::Uefi;
    const auto refused = check(machine, pc);
    EXPECT_EQ(refused.board, "");
    EXPECT_NE(refused.systems.at(0)
                  .at(Stage::Firmware)
                  .text.find("d1p1:/EFI/BOOT/BOOTAA64.EFI is there, for AArch64 firmware"),
              std::string::npos);
    EXPECT_EQ(settled_options(machine, {}).efi_machine, EfiMachine::Arm64);
    EXPECT_EQ(settled_options(machine, pc).efi_machine, EfiMachine::X64);
}

TEST(UefiArm64, EntriesAndImagesOfOtherProcessors) {
    Valley valley;
    valley.entry("architecture x64\n");
    EXPECT_EQ(BoardVerdict(valley.build(), "uefi-arm64").stage(), "configuration");
    valley.entry("architecture AA64\n");
    EXPECT_EQ(BoardVerdict(valley.build(), "uefi-arm64").system().entry, "Almhof");
    valley.esp.file("/vmlinuz", kernel(0x8664));
    const BoardVerdict kernel_for_a_pc(valley.build(), "uefi-arm64");
    ASSERT_TRUE(kernel_for_a_pc.system().stops_at);
    EXPECT_LE(*kernel_for_a_pc.system().stops_at, Stage::Kernel);
    valley.esp.file("/EFI/BOOT/BOOTAA64.EFI", loader(0x8664));
    const BoardVerdict for_a_pc(valley.build(), "uefi-arm64");
    EXPECT_EQ(for_a_pc.why(), Code::EfiImageRefused);
    EXPECT_NE(for_a_pc.system().at(*for_a_pc.system().stops_at).text.find("it is for x86-64, the firmware is AArch64"),
              std::string::npos)
        << for_a_pc.system().at(*for_a_pc.system().stops_at).text;
}

TEST(UefiArm64, ProcessorsByTheirImages) {
    for (const auto& row : efi_machines()) {
        const auto application = forge::make_efi_application({}, row.image);
        EXPECT_FALSE(refuse_efi_image(*memory_source(application, "d1p1:/a.efi"), row.machine)) << row.suffix;
        EXPECT_EQ(efi_machine_of_image(row.image), &row);
        for (const auto& other : efi_machines())
            if (other.machine != row.machine)
                EXPECT_TRUE(refuse_efi_image(*memory_source(application, "d1p1:/a.efi"), other.machine))
                    << row.suffix << other.suffix;
        EXPECT_TRUE(efi_is_fallback_place(row.fallback));
    }
    EXPECT_EQ(efi_machine_of_image(0x0200), nullptr);
    EXPECT_EQ(identify_efi_application(*memory_source(kernel(), "k")), EfiApplication::LinuxStub);
    auto packed = forge::make_efi_application({}, aarch64);
    const auto mark = forge::to_bytes("zimg");
    std::ranges::copy(mark, packed.begin() + 4);
    EXPECT_EQ(identify_efi_application(*memory_source(packed, "k")), EfiApplication::LinuxStub);
    // Without a section of its own it is known by its words, though it names Windows' manager.
    Bytes words;
    for (const char c : std::string("systemd-boot \\EFI\\Microsoft\\Boot\\bootmgfw.efi")) {
        words.push_back(static_cast<std::uint8_t>(c));
        words.push_back(0);
    }
    EXPECT_EQ(identify_efi_application(*memory_source(forge::make_efi_application({{".rdata", words}}, aarch64), "l")),
              EfiApplication::SystemdBoot);
}

TEST(UefiArm64, ModulesOfGrubAreForTheirProcessor) {
    // An ELF head alone: what is refused first is its machine.
    Bytes module(256);
    const auto ident = forge::to_bytes(
        "\x7F"
        "ELF\x02\x01\x01");
    std::ranges::copy(ident, module.begin());
    module[16] = 1;
    module[20] = 1;
    const auto message = [&](std::uint8_t machine, const char* platform) {
        module[18] = machine;
        return grub::read_module(module, platform).error().what;
    };
    EXPECT_EQ(message(62, "arm64-efi"), "invalid arch-dependent ELF magic");
    EXPECT_NE(message(183, "arm64-efi"), "invalid arch-dependent ELF magic");
    EXPECT_NE(message(62, "x86_64-efi"), "invalid arch-dependent ELF magic");
    EXPECT_EQ(message(183, "x86_64-efi"), "invalid arch-dependent ELF magic");
    EXPECT_EQ(message(183, "i386-pc"), "invalid arch-dependent ELF magic");
}

TEST(UbootEfi, StartsTheFallbackFileAndWhatFollows) {
    Valley valley;
    valley.gpt = false;
    const BoardVerdict board(valley.build(), "uboot-arm64");
    const auto& system = board.system();
    EXPECT_NE(hops(system).find("d1p1:/efi/boot/bootaa64.efi"), std::string::npos) << hops(system);
    EXPECT_EQ(system.entry, "Almhof") << hops(system);
    EXPECT_EQ(system.at(Stage::Configuration).state, State::Holds);
    valley.esp.file("/EFI/BOOT/BOOTAA64.EFI", loader(0x8664));
    const BoardVerdict refused(valley.build(), "uboot-arm64");
    EXPECT_EQ(refused.why(), Code::EfiImageRefused);
    EXPECT_EQ(refused.system().symptom, "Machine type 0x8664 is not supported\nLoading image failed");
    valley.esp.file("/EFI/BOOT/BOOTAA64.EFI", "no application");
    EXPECT_EQ(BoardVerdict(valley.build(), "uboot-arm64").system().symptom, "Loading image failed");
}

}  // namespace
