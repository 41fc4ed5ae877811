// SPDX-License-Identifier: MIT
// Containers of kernels for boards: U-Boot's legacy image and its flattened image tree (FIT).
#pragma once

#include <map>

#include <herberge/artifact.hpp>
#include <herberge/finding.hpp>

#include "artifact/device_tree.hpp"
#include "ondisk/uboot.hpp"

namespace herberge {

/// U-Boot's numbers (include/image.h).
namespace uboot_id {
inline constexpr std::uint8_t linux_os = 5, efi_os = 28, kernel = 2, ramdisk = 3, several = 4, script = 6, tree = 8,
                              kernel_anywhere = 14;
}

/// A legacy image, and which of its checks hold.
struct LegacyImage {
    ondisk::UbootLegacyImage header;
    bool header_sound = false;                                   ///< the header's CRC-32
    bool whole = false;                                          ///< all of its content is there
    bool data_sound = false;                                     ///< the content's CRC-32
    std::vector<std::pair<std::uint64_t, std::uint64_t>> parts;  ///< of an image of several: offset and length each
    static constexpr std::uint64_t data_at = sizeof(ondisk::UbootLegacyImage);
};
/// None: it does not begin with the mark. Reads all of the content when it is there (most 1 GiB).
[[nodiscard]] std::optional<LegacyImage> inspect_legacy_image(const ByteSource& source, std::uint64_t at = 0);
/// 0 none, 1 gzip …; none: a number without a meaning here.
[[nodiscard]] std::optional<Compression> legacy_compression(std::uint8_t number);
/// By the names that a FIT uses; None as well for one without a meaning here.
[[nodiscard]] Compression fit_compression(std::string_view name);

/// A component of a FIT (doc/usage/fit/source_file_format.rst).
struct FitImage {
    std::string name;  ///< of its node
    std::string description, type, arch, os, compression;
    std::optional<std::uint64_t> load, entry;
    std::uint64_t offset = 0, length = 0;  ///< of its data, from the FIT's start
    bool data_there = false;               ///< it has data, and they lie inside the file
    struct Hash {
        std::string node, algorithm;
        bool known = false;  ///< its algorithm is computed here, as U-Boot does
        bool matches = false;
        std::string stored, computed;
    };
    std::vector<Hash> hashes;
    std::vector<std::string> signed_by;  ///< names of the keys that its signatures hint at
};

struct FitConfiguration {
    std::string name, description, kernel, ramdisk, firmware;
    std::vector<std::string> trees, loadables, compatible;
};

class Fit {
public:
    /// Errors: those of DeviceTree, NotFound (no node /images: a device tree that is no FIT).
    [[nodiscard]] static Result<Fit> open(const Source& source, std::uint64_t at = 0);
    /// Its hashes computed. None: no such node.
    [[nodiscard]] std::optional<FitImage> image(const std::string& name) const;
    [[nodiscard]] std::vector<std::string> images() const;
    [[nodiscard]] const std::vector<FitConfiguration>& configurations() const { return configurations_; }
    /// A property of the whole that U-Boot asks for before all else (fit_check_format) and that is not there; empty:
    /// none.
    [[nodiscard]] const std::string& lacks() const { return lacks_; }
    [[nodiscard]] const FitConfiguration* find(std::string_view name) const;
    [[nodiscard]] const std::string& default_configuration() const { return default_; }
    /// The one that fits a board best by `compatible`, its own or its device tree's (boot/image-fit.c,
    /// fit_conf_find_compat); null: none does.
    [[nodiscard]] const FitConfiguration* best_match(const std::vector<std::string>& board) const;

    [[nodiscard]] const DeviceTree& tree() const { return tree_; }
    /// The bytes of an image. Errors: those of reading, TooLarge (beyond `most`).
    [[nodiscard]] Result<std::vector<std::uint8_t>> content(const FitImage& image, std::uint64_t most) const {
        return source_->bytes(at_ + image.offset, image.length, most);
    }

private:
    DeviceTree tree_;
    Source source_;
    std::uint64_t at_ = 0;
    std::vector<FitConfiguration> configurations_;
    std::string default_, lacks_;
};

/// An image of Android's: a kernel, and what belongs to it. Parts are offset and length; length 0: not there.
struct AndroidImage {
    unsigned version = 0;   ///< of its header, 0 to 4
    std::string arguments;  ///< for the kernel
    std::pair<std::uint64_t, std::uint64_t> kernel, ramdisk, second, tree;
};
[[nodiscard]] bool is_android(const ByteSource& source);
/// Errors: Malformed, OutOfRange (it is cut short), Unsupported (a newer header). Expects the mark to be there.
[[nodiscard]] Result<AndroidImage> inspect_android(const ByteSource& source);

/// What belongs to the board, since version 3 in an image of its own.
struct AndroidVendorImage {
    std::string arguments;
    std::pair<std::uint64_t, std::uint64_t> ramdisk, tree;
};
[[nodiscard]] Result<AndroidVendorImage> inspect_android_vendor(const ByteSource& source);

}  // namespace herberge
