// SPDX-License-Identifier: MIT
// Formats of kernels, one row each.
#pragma once

#include <herberge/artifact.hpp>

namespace herberge {

/// One row of the table of kernel formats.
struct KernelFormat {
    std::string_view name;  ///< "an arm64 Image"
    Processor processor;
    bool (*recognise)(const ByteSource& file);
    /// Judges it as a loader of that processor starts it; null: it is recognised and not judged here.
    Result<KernelImage> (*inspect)(const ByteSource& file, KernelEntry entry);
};

/// x86: Linux Documentation/arch/x86/boot.rst.
[[nodiscard]] bool is_bz_image(const ByteSource& file);
[[nodiscard]] Result<KernelImage> inspect_bz_image(const ByteSource& file, KernelEntry entry);
/// arm64 and RISC-V. `file` holds at least the 64 bytes of the head.
[[nodiscard]] Result<KernelImage> inspect_flat_image(const ByteSource& file, KernelEntry entry);
/// 32-bit ARM.
[[nodiscard]] Result<KernelImage> inspect_zimage(const ByteSource& file, KernelEntry entry);
/// Whether such a kernel contains `words`; a zImage is unpacked until they are found.
[[nodiscard]] Result<bool> flat_image_mentions(const ByteSource& file, std::string_view words);
[[nodiscard]] Result<bool> zimage_mentions(const ByteSource& file, std::string_view words);

}  // namespace herberge
