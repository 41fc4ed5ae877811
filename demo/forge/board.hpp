// SPDX-License-Identifier: MIT
// What boards start from: first programs, images of U-Boot, trees, kernels of ARM.
#pragma once

#include "forge.hpp"

namespace forge {

/// A first program for Allwinner's ROM: header, sum, code; filled up to a multiple of 512 bytes.
Bytes make_egon(std::size_t size, std::uint32_t seed = 7);

/// A program that is no U-Boot, and carries variables where U-Boot has its built-in ones.
Bytes make_uboot(const std::vector<std::pair<std::string, std::string>>& variables);
/// An environment of `size` bytes with its checksum.
Bytes make_uboot_environment(const std::vector<std::pair<std::string, std::string>>& variables, std::size_t size);

struct LegacyOptions {
    std::uint8_t type = 2;  ///< 2 kernel, 5 firmware, 6 script
    std::uint8_t arch = 2;
    std::uint8_t os = 5;
    std::uint8_t compression = 0;
    std::uint32_t load = 0x42000000, entry = 0x42000000;
    std::string name;
};
/// U-Boot's legacy image; a script gets its table of sizes.
Bytes make_legacy_image(const Bytes& content, const LegacyOptions& options);

/// A device tree as nodes and properties.
struct TreeNode {
    std::string name;
    std::vector<std::pair<std::string, Bytes>> properties;
    std::vector<TreeNode> children;
    TreeNode& text(const std::string& property, const std::string& value);
    TreeNode& number(const std::string& property, std::uint32_t value);
};
Bytes make_device_tree(const TreeNode& root);

struct FitPart {
    std::string name, type;
    Bytes data;
    std::uint32_t load = 0, entry = 0;  ///< 0: it says nothing
    std::string arch = "arm";
};
/// An image tree with SHA-256 of each part, and one configuration of its first kernel, RAM disk and tree.
Bytes make_fit(const std::vector<FitPart>& parts, const std::string& description);

/// A zImage of 32-bit ARM with an xz payload.
Bytes make_zimage(const std::string& release);
/// One with this unpacked kernel.
Bytes make_zimage(const Bytes& kernel);
/// An arm64 Image.
Bytes make_arm64_image(const std::string& release, std::size_t size = 400000);
/// A flash of at least so many blocks of 64 KiB, divided by UBI into these volumes; the table of volumes lies in the
/// first two blocks.
Bytes make_ubi(const std::vector<std::pair<std::string, Bytes>>& volumes, std::size_t blocks = 0);
/// A static program that exits at once: 32-bit ARM.
Bytes make_arm_program();

}  // namespace forge
