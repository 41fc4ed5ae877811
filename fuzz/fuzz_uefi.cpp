// SPDX-License-Identifier: MIT
// What UEFI reads: variable stores, device paths, signature lists, images with their signatures.
#include <herberge/herberge.hpp>

#include "sums.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::span<const std::uint8_t> bytes(data, size);
    if (const auto variables = herberge::parse_uefi_flash(bytes)) {
        (void)herberge::boot_options(*variables);
        (void)herberge::secure_boot_policy(*variables, herberge::SecureBoot::Auto);
        for (const auto& v : variables->all) (void)herberge::view_variable(v);
    }
    (void)herberge::decode_device_path(bytes).text();
    (void)herberge::parse_signature_lists(bytes);
    for (const char* name : {"db", "Boot0001", "ConOut"})
        (void)herberge::view_variable({name, std::string(herberge::UefiVariables::global), 7, {data, data + size}});
    const auto file = herberge::memory_source({data, data + size}, "d1p1:/EFI/BOOT/BOOTX64.EFI", 1);
    (void)herberge::read_catalogue(*file);
    (void)herberge::refuse_efi_image(*file);
    (void)herberge::identify_efi_application(*file);
    (void)herberge::image_signatures(*file);
    (void)herberge::authenticode_digest(*file, "SHA256");
    (void)herberge::pe_checksum(*file);
    (void)herberge::read_grub_efi(*file);
    return 0;
}

HERBERGE_MENDING_MUTATOR(Firmware, 0)
