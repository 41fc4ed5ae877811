// SPDX-License-Identifier: MIT
// Formats of kernels, one row each.
#pragma once

#include <herberge/artifact.hpp>

namespace herberge {

/// One row of the table of kernel formats.
struct KernelFormat {
    std::string_view name;  ///< "an arm64 Image"
    bool (*recognise)(const ByteSource& file);
    /// Judges it as a loader of that processor starts it; null: it is recognised and not judged here.
    Result<KernelImage> (*inspect)(const ByteSource& file, KernelEntry entry);
};

/// x86: Linux Documentation/arch/x86/boot.rst.
[[nodiscard]] bool is_bz_image(const ByteSource& file);
[[nodiscard]] Result<KernelImage> inspect_bz_image(const ByteSource& file, KernelEntry entry);

}  // namespace herberge
