// SPDX-License-Identifier: MIT
// Images as UEFI firmware judges them (MdePkg/Library/BasePeCoffLib and MdeModulePkg/Core/Dxe/Image of open firmware),
// and what they are.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "ondisk/pe.hpp"

namespace herberge {

namespace {

bool contains(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    return std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end(),
                       [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }) != bytes.end();
}

std::vector<std::uint8_t> wide(std::string_view text) {
    std::vector<std::uint8_t> out;
    for (const char c : text) {
        out.push_back(static_cast<std::uint8_t>(c));
        out.push_back(0);
    }
    return out;
}

bool contains_wide(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    const auto units = wide(wanted);
    return std::search(bytes.begin(), bytes.end(), units.begin(), units.end()) != bytes.end();
}

}  // namespace

namespace {

constexpr EfiMachineRow rows[] = {
    {EfiMachine::X64, Processor::X86, 0x8664, "/EFI/BOOT/BOOTX64.EFI", "x64", "x86_64-efi", "64-bit PC"},
    {EfiMachine::Ia32, Processor::X86, 0x014C, "/EFI/BOOT/BOOTIA32.EFI", "ia32", "i386-efi", "32-bit PC"},
    {EfiMachine::Arm64, Processor::Arm64, 0xAA64, "/EFI/BOOT/BOOTAA64.EFI", "aa64", "arm64-efi", "AArch64"},
    {EfiMachine::Arm, Processor::Arm, 0x01C2, "/EFI/BOOT/BOOTARM.EFI", "arm", "arm-efi", "ARM"},
    {EfiMachine::Riscv64, Processor::Riscv64, 0x5064, "/EFI/BOOT/BOOTRISCV64.EFI", "riscv64", "riscv64-efi", "RISC-V"},
};

}  // namespace

std::span<const EfiMachineRow> efi_machines() { return rows; }

const EfiMachineRow& efi_machine(EfiMachine machine) {
    return *std::ranges::find(rows, machine, &EfiMachineRow::machine);
}

const EfiMachineRow& efi_machine_for(Processor processor) {
    return *std::ranges::find(rows, processor, &EfiMachineRow::processor);
}

const EfiMachineRow* efi_machine_of_image(std::uint16_t image) {
    const auto* found = std::ranges::find(rows, image, &EfiMachineRow::image);
    return found != std::end(rows) ? found : nullptr;
}

std::string_view efi_fallback_path(EfiMachine machine) { return efi_machine(machine).fallback; }

std::span<const std::pair<std::string_view, std::string_view>> other_fallback_names() {
    static constexpr std::array<std::pair<std::string_view, std::string_view>, 2> names = {
        {{"/EFI/BOOT/BOOTLOONGARCH64.EFI", "LoongArch"}, {"/EFI/BOOT/BOOTIA64.EFI", "Itanium"}}};
    return names;
}

namespace {

constexpr std::uint16_t relocations_stripped = 1;  // IMAGE_FILE_RELOCS_STRIPPED

/// The blocks of relocations, which the firmware walks when it cannot load the image where it was linked: that is the
/// rule.
std::optional<ImageRefusal> refuse_relocations(const ByteSource& file, const PeImage& image) {
    // Without relocations it must lie at its own address; the lowest MiB is never given away.
    constexpr std::uint64_t lowest = std::uint64_t{1} << 20U;
    if ((image.characteristics & relocations_stripped) != 0) {
        if (image.base < lowest || image.base % 4096 != 0)
            return ImageRefusal{
                fmt::format("it has no relocations, and nothing can be loaded at its own address {:x}", image.base),
                "Not Found"};
        return std::nullopt;
    }
    if (image.relocations_size == 0) return std::nullopt;
    const auto refused = [](std::string why) {
        return ImageRefusal{"its relocations cannot be applied: " + std::move(why), "Load Error"};
    };
    const std::uint64_t end = std::uint64_t{image.relocations} + image.relocations_size;
    if (end > image.image_size) return refused("they lie outside of the image");
    // As loaded: what no section brings is zero.
    const auto load = [&](std::uint64_t address) -> std::optional<ondisk::PeRelocationBlock> {
        for (const auto& s : image.sections)
            if (address >= s.address && address - s.address + sizeof(ondisk::PeRelocationBlock) <= s.file_size) {
                const auto block = file.load<ondisk::PeRelocationBlock>(s.file_offset + (address - s.address));
                return block ? std::optional(*block) : std::nullopt;
            }
        return std::nullopt;
    };
    for (std::uint64_t at = image.relocations; at < end;) {
        const auto block = load(at);
        if (!block) return refused(fmt::format("no section holds the block at {:x}", at));
        if (block->size < sizeof(*block) || block->size > end - at)
            return refused(fmt::format("the block at {:x} claims {} bytes", at, std::uint32_t{block->size}));
        if (block->page >= image.image_size)
            return refused(fmt::format("the block at {:x} is for an address outside of the image", at));
        at += block->size;
    }
    return std::nullopt;
}

}  // namespace

std::optional<ImageRefusal> refuse_efi_image(const ByteSource& file, EfiMachine machine) {
    constexpr std::uint16_t efi_application = 10;
    const auto image = inspect_pe(file);
    if (!image) return ImageRefusal{image.error().what, "Not Found"};
    if (image->subsystem != efi_application && image->subsystem != 16)
        return ImageRefusal{fmt::format("its subsystem is {}, not EFI application (10)", image->subsystem),
                            "Not Found"};
    const std::uint16_t own = efi_machine(machine).image;
    if (image->machine != own)
        return ImageRefusal{
            fmt::format("it is for {}, the firmware is {}", pe_machine_name(image->machine), pe_machine_name(own)),
            "Unsupported"};
    // PeCoffLoaderGetPeHeader: the table of sections must lie inside the headers, and these inside the image.
    const std::uint64_t table_end = image->sections_at + std::uint64_t{image->section_count} * 40;
    if (table_end > image->header_size || table_end >= image->image_size)
        return ImageRefusal{fmt::format("its table of {} sections does not fit into its headers", image->section_count),
                            "Unsupported"};
    if (image->certificates_size != 0 && image->certificates_offset + image->certificates_size > file.size())
        return ImageRefusal{fmt::format("its certificate table leaves the file: it ends at byte {}, the file has {}",
                                        image->certificates_offset + image->certificates_size, file.size()),
                            "Unsupported"};
    for (const auto& s : image->sections) {
        if (std::uint64_t{s.file_offset} + s.file_size > file.size())
            return ImageRefusal{fmt::format("it is cut short: section {} ends at byte {}, the file has {}", s.name,
                                            std::uint64_t{s.file_offset} + s.file_size, file.size()),
                                "Unsupported"};
        if (std::uint64_t{s.address} + std::max(s.virtual_size, s.virtual_size == 0 ? s.file_size : 0U) >
            image->image_size)
            return ImageRefusal{fmt::format("section {} does not fit the image size {} that the header gives", s.name,
                                            image->image_size),
                                "Load Error"};
    }
    if (auto refused = refuse_relocations(file, *image)) return refused;
    if (image->entry >= image->image_size)
        return ImageRefusal{"its entry point lies outside of it", "X64 Exception Type - 06(#UD - Invalid Opcode)",
                            true};
    return std::nullopt;
}

bool efi_is_fallback_place(std::string_view path) { return lower_text(path).starts_with("/efi/boot/boot"); }

EfiApplication identify_efi_application(const ByteSource& file) {
    const auto image = inspect_pe(file);
    if (!image) return EfiApplication::Unknown;
    auto section = [&](std::string_view name) {
        return std::ranges::find(image->sections, name, &PeSection::name) != image->sections.end();
    };
    if (section(".linux")) return EfiApplication::UnifiedKernel;
    if (section(".sdmagic")) return EfiApplication::SystemdBoot;
    if (section(".vendor_cert") || section(".sbatlevel")) return EfiApplication::Shim;
    if (section("mods")) return EfiApplication::Grub;
    // x86's own header; the flat images of arm64 and RISC-V; a packed kernel with a stub of its own (Linux
    // drivers/firmware/efi/libstub/zboot-header.S).
    constexpr std::pair<std::uint64_t, std::string_view> marks[] = {
        {0x202, "HdrS"}, {0x38, "ARM\x64"}, {0x38, "RSC\x05"}, {4, "zimg"}};
    for (const auto& [at, mark] : marks)
        if (const auto found = file.bytes(at, 4);
            found && std::equal(mark.begin(), mark.end(), found->begin(),
                                [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }))
            return EfiApplication::LinuxStub;
    const auto bytes = file.bytes(0, std::min<std::uint64_t>(file.size(), std::uint64_t{8} << 20U));
    // It names Windows' own manager, too; for some processors it has no section of its own.
    if (bytes && contains_wide(*bytes, "systemd-boot")) return EfiApplication::SystemdBoot;
    if (bytes && (contains_wide(*bytes, "bootmgfw.efi") || contains_wide(*bytes, "\\Microsoft\\Boot\\BCD") ||
                  contains_wide(*bytes, "bootmgr.exe") || contains(*bytes, "bootmgfw.pdb")))
        return EfiApplication::WindowsBootManager;
    return EfiApplication::Unknown;
}

std::string_view efi_application_name(EfiApplication kind) {
    switch (kind) {
        case EfiApplication::Grub: return "GRUB 2";
        case EfiApplication::SystemdBoot: return "systemd-boot";
        case EfiApplication::Shim: return "shim";
        case EfiApplication::WindowsBootManager: return "Windows Boot Manager";
        case EfiApplication::LinuxStub: return "Linux kernel with EFI stub";
        case EfiApplication::UnifiedKernel: return "unified kernel image";
        case EfiApplication::Unknown: break;
    }
    return "EFI application";
}

}  // namespace herberge
