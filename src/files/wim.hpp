// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/wim.hpp>

namespace herberge {

[[nodiscard]] std::optional<VolumeInfo> recognise_wim(const ByteSource& file);
/// The image that is started; the first, where none is marked.
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_wim_to_start(const Source& file, Reader reader);

}  // namespace herberge
