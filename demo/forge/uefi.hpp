// SPDX-License-Identifier: MIT
// Writers for UEFI machines: variable stores, boot options, unified kernel images.
#pragma once

#include <array>

#include "windows.hpp"

namespace forge {

struct Variable {
    std::string name;
    std::string guid = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
    Bytes data;
    std::uint8_t state = 0x3F;     ///< 3F good, 3E being replaced, 3C deleted
    std::uint32_t attributes = 7;  ///< non-volatile, boot services, run time
};
/// A flash image: a firmware volume's header, and an authenticated variable store.
Bytes make_flash(const std::vector<Variable>& variables);

/// The same variables in the empty store of a flash image that was made for a firmware.
Bytes fill_flash(Bytes flash, const std::vector<Variable>& variables);

/// Sixteen bytes in the order in which GUIDs are stored.
Bytes guid_bytes(std::string_view text);
/// A load option for a file on a GPT partition.
Bytes make_boot_option(std::string_view title, std::uint32_t partition, std::string_view partition_guid,
                       std::string_view path, bool active = true, const Bytes& optional = {});

/// An EFI application; `sections` give it away as what it stands for.
Bytes make_efi_application(const std::vector<std::pair<std::string, Bytes>>& sections = {},
                           std::uint16_t machine = 0x8664);
/// A kernel whose first sector is a PE header, too, as its EFI stub has it (Linux arch/x86/boot/header.S).
Bytes with_efi_stub(Bytes kernel);
Bytes make_unified_kernel(std::string_view os_release, std::string_view command_line, const Bytes& kernel,
                          const Bytes& ramdisk);

}  // namespace forge
