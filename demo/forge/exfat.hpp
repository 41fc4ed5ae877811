// SPDX-License-Identifier: MIT
#pragma once

#include "forge.hpp"

namespace forge {

struct ExfatOptions {
    std::uint64_t size = std::uint64_t{16} << 20U;  ///< bytes
    std::uint32_t serial = 0xA1B0E0FA;
    std::string label = "inn";  ///< up to 11 units
    std::uint32_t cluster = 4096;
};
/// A whole exFAT (Microsoft's specification, revision 1.00). Every second file lies in one piece, the others in chains
/// of the table, in the order of their clusters turned round. Links and devices are left out. Throws std::runtime_error
/// where it does not fit.
Bytes make_exfat(const Tree& tree, const ExfatOptions& options = {});

}  // namespace forge
