// SPDX-License-Identifier: MIT
// Disks, volumes and images as UEFI firmware judges them (MdeModulePkg/Universal/Disk/PartitionDxe, MdePkg/Library/
// BasePeCoffLib, FatPkg of open firmware).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"
#include "ondisk/pe.hpp"
#include "partition/gpt.hpp"

namespace herberge {

namespace {

bool contains(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    return std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end(), [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }) !=
           bytes.end();
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

/// An MBR whose entries overlap or leave the disk is refused as a whole.
bool mbr_accepted(const Disk& disk) {
    const std::uint64_t end = disk.source->size() / 512;
    for (const auto& a : disk.table.partitions) {
        if (a.logical) continue;
        if (a.first_lba + a.sectors > end) return false;
        for (const auto& b : disk.table.partitions)
            if (!b.logical && a.number < b.number && a.first_lba < b.first_lba + b.sectors && b.first_lba < a.first_lba + a.sectors) return false;
    }
    return true;
}

}  // namespace

Machine after_uefi_firmware(const Machine& machine) {
    Machine out;
    for (const auto& disk : machine.disks) {
        auto mended = mend_gpt_primary(disk.source);
        out.disks.push_back(inspect_disk(mended != nullptr ? mended : disk.source, disk.number, disk.path));
        if (disk.optical) into_optical_drive(out.disks.back());
    }
    return out;
}

std::unique_ptr<UefiVolumes> uefi_volumes(const Machine& machine) {
    auto out = std::make_unique<UefiVolumes>();
    constexpr std::uint64_t ignored_by_firmware = 2;  // attribute bit 1
    for (const auto& disk : machine.disks) {
        Disk seen;
        seen.number = disk.number;
        seen.path = disk.path;
        seen.source = disk.source;
        seen.problem = disk.problem;
        seen.catalogue = disk.catalogue;
        seen.optical = disk.optical;
        if (!disk.problem) {
            // On a disc, with its blocks of 2048 bytes, a GPT meant for disks is not found.
            if (auto table = disk.optical ? std::nullopt : read_gpt_as_uefi(*disk.source, out->findings)) {
                seen.table = std::move(*table);
                std::erase_if(seen.table.partitions, [&](const Partition& p) {
                    if ((p.attributes & ignored_by_firmware) == 0) return false;
                    out->findings.push_back(make_finding("uefi-partition-ignored",
                                                         fmt::format("d{}p{} carries the attribute by which firmware ignores it", disk.number, p.number),
                                                         {evidence_bytes(*disk.source, p.entry_offset + 48, 8, "bit 1 clear", "set")}));
                    return true;
                });
            } else if (disk.table.kind == TableKind::Mbr && !disk.table.protective) {
                if (mbr_accepted(disk)) {
                    seen.table = disk.table;
                } else {
                    out->findings.push_back(make_finding(
                        "uefi-mbr-refused", fmt::format("entries of d{}'s table overlap or leave the disk: the firmware refuses it as a whole", disk.number),
                        {evidence_bytes(*disk.source, 446, 64)}));
                }
            }
            if (!seen.table.partitions.empty()) seen = inspect_partitions(std::move(seen));
            else if (seen.table.kind == TableKind::None) {
                // Media without a table: the whole disk may be one FAT.
                seen.table = PartitionTable{};
                seen = inspect_partitions(std::move(seen));
            }
        }
        out->view.disks.push_back(std::move(seen));
    }
    out->view.each_volume([&](const Volume& volume) {
        // A boot catalogue counts where there is no GPT.
        const bool passed_over = volume.partition < 0 && out->view.disk(volume.disk)->table.kind == TableKind::Gpt;
        if (volume.info.kind.starts_with("fat") && !passed_over) out->volumes.push_back(&volume);
    });
    return out;
}

std::string_view efi_fallback_path(EfiMachine machine) { return machine == EfiMachine::Ia32 ? "/EFI/BOOT/BOOTIA32.EFI" : "/EFI/BOOT/BOOTX64.EFI"; }

std::span<const std::pair<std::string_view, std::string_view>> other_fallback_names() {
    static constexpr std::array<std::pair<std::string_view, std::string_view>, 5> names = {{{"/EFI/BOOT/BOOTAA64.EFI", "AArch64"},
                                                                                            {"/EFI/BOOT/BOOTARM.EFI", "ARM"},
                                                                                            {"/EFI/BOOT/BOOTRISCV64.EFI", "RISC-V"},
                                                                                            {"/EFI/BOOT/BOOTLOONGARCH64.EFI", "LoongArch"},
                                                                                            {"/EFI/BOOT/BOOTIA64.EFI", "Itanium"}}};
    return names;
}

std::optional<ImageRefusal> refuse_efi_image(const ByteSource& file, EfiMachine machine) {
    constexpr std::uint16_t x86_64 = 0x8664;
    constexpr std::uint16_t i386 = 0x014C;
    constexpr std::uint16_t efi_application = 10;
    const auto image = inspect_pe(file);
    if (!image) return ImageRefusal{image.error().what, "Not Found"};
    if (image->subsystem != efi_application && image->subsystem != 16)
        return ImageRefusal{fmt::format("its subsystem is {}, not EFI application (10)", image->subsystem), "Not Found"};
    const std::uint16_t own = machine == EfiMachine::Ia32 ? i386 : x86_64;
    if (image->machine != own)
        return ImageRefusal{fmt::format("it is for {}, the firmware is {}", pe_machine_name(image->machine), pe_machine_name(own)), "Unsupported"};
    // PeCoffLoaderGetPeHeader: the table of sections must lie inside the headers, and these inside the image.
    const std::uint64_t table_end = image->sections_at + std::uint64_t{image->section_count} * 40;
    if (table_end > image->header_size || table_end >= image->image_size)
        return ImageRefusal{fmt::format("its table of {} sections does not fit into its headers", image->section_count), "Unsupported"};
    if (image->certificates_size != 0 && image->certificates_offset + image->certificates_size > file.size())
        return ImageRefusal{fmt::format("its certificate table leaves the file: it ends at byte {}, the file has {}",
                                        image->certificates_offset + image->certificates_size, file.size()),
                            "Unsupported"};
    for (const auto& s : image->sections) {
        if (std::uint64_t{s.file_offset} + s.file_size > file.size())
            return ImageRefusal{
                fmt::format("it is cut short: section {} ends at byte {}, the file has {}", s.name, std::uint64_t{s.file_offset} + s.file_size, file.size()),
                "Unsupported"};
        if (std::uint64_t{s.address} + std::max(s.virtual_size, s.virtual_size == 0 ? s.file_size : 0U) > image->image_size)
            return ImageRefusal{fmt::format("section {} does not fit the image size {} that the header gives", s.name, image->image_size), "Load Error"};
    }
    if (image->entry >= image->image_size) return ImageRefusal{"its entry point lies outside of it", "X64 Exception Type - 06(#UD - Invalid Opcode)"};
    return std::nullopt;
}

bool efi_is_fallback_place(std::string_view path) { return lower_text(path).starts_with("/efi/boot/boot"); }

EfiApplication identify_efi_application(const ByteSource& file) {
    const auto image = inspect_pe(file);
    if (!image) return EfiApplication::Unknown;
    auto section = [&](std::string_view name) { return std::ranges::find(image->sections, name, &PeSection::name) != image->sections.end(); };
    if (section(".linux")) return EfiApplication::UnifiedKernel;
    if (section(".sdmagic")) return EfiApplication::SystemdBoot;
    if (section(".vendor_cert") || section(".sbatlevel")) return EfiApplication::Shim;
    if (section("mods")) return EfiApplication::Grub;
    const auto setup = file.bytes(0x202, 4);
    if (setup && (*setup)[0] == 'H' && (*setup)[1] == 'd' && (*setup)[2] == 'r' && (*setup)[3] == 'S') return EfiApplication::LinuxStub;
    const auto bytes = file.bytes(0, std::min<std::uint64_t>(file.size(), std::uint64_t{8} << 20U));
    if (bytes && (contains_wide(*bytes, "bootmgfw.efi") || contains_wide(*bytes, "\\Microsoft\\Boot\\BCD") || contains_wide(*bytes, "bootmgr.exe") ||
                  contains(*bytes, "bootmgfw.pdb")))
        return EfiApplication::WindowsBootManager;
    if (bytes && contains_wide(*bytes, "systemd-boot")) return EfiApplication::SystemdBoot;
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
