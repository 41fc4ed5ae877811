// SPDX-License-Identifier: MIT
// Windows imaging files: images of whole volumes, with each content stored once.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>

#include <herberge/bytes.hpp>
#include <herberge/files.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What such a file says of itself.
struct WimFile {
    std::uint32_t images = 0;
    std::uint32_t boot_image = 0;  ///< from 1, the one that is started; 0: none
    std::uint32_t chunk = 0;       ///< plain bytes of a packed piece; 0: nothing is packed
    std::string packing;           ///< "none", "XPRESS", "LZX", "LZMS"
    std::uint64_t size = 0;        ///< bytes it must have for its table, its texts and its images' metadata
    std::string description;       ///< its XML text, UTF-8; empty: none, or not to be read
};

/// Has it the mark of an imaging file?
[[nodiscard]] bool is_wim(const ByteSource& file);
/// Reads the header. Errors: NotFound (no mark), Malformed, Unsupported (its resources are packed together, or lie in
/// several files), OutOfRange (cut short: table or metadata lie behind its end), and the medium's.
[[nodiscard]] Result<WimFile> inspect_wim(const ByteSource& file);
/// The files of the image `number` (from 1). Names compare without case. Errors: as inspect_wim(); NotFound (no such
/// image), TooLarge (metadata beyond 256 MiB).
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_wim(const Source& file, std::uint32_t number);

}  // namespace herberge
