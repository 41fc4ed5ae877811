// SPDX-License-Identifier: MIT
// The EFI applications on a machine's disks, and who points at them.
#pragma once

#include <string>
#include <vector>

#include <herberge/storage.hpp>
#include <herberge/uefi.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

struct EfiFile {
    std::string place;  ///< "d1p1:/EFI/BOOT/BOOTX64.EFI"
    EfiApplication application = EfiApplication::Unknown;
    std::string version;                ///< as the file tells; empty: it does not
    std::string machine;                ///< "x86-64"
    std::vector<std::string> signers;   ///< of its signatures; empty: not signed
    std::vector<std::string> named_by;  ///< boot options, menu entries, the fallback rule, another application
    std::string problem;                ///< why the firmware would not start it; empty: it could
    [[nodiscard]] bool orphan() const { return named_by.empty(); }
};

/// Every file with the ending .efi below /EFI, and in the root directory, of the volumes that the firmware opens; at
/// most 500. Without variables, only menus and the fallback rule point at them. `kind`: what the firmware runs on.
[[nodiscard]] std::vector<EfiFile> find_efi_files(const Machine& machine, const UefiVariables& variables,
                                                  EfiMachine kind = EfiMachine::X64);

}  // namespace herberge
