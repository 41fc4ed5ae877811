// SPDX-License-Identifier: MIT
// Kernels and RAM disks of one walk: what several entries share is judged once.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/loader.hpp>

namespace herberge::walk {

/// The bytes of a file that a loader found, or of the part of it that counts; null: they cannot be had.
[[nodiscard]] Source open_reference(const FileReference& file);

class Artifacts {
public:
    std::shared_ptr<const Result<KernelImage>> kernel(const FileReference& file, KernelEntry entry,
                                                      Processor processor);
    /// `goes_on`: the loader leaves out the sectors that it does not get, and starts the kernel all the same.
    std::shared_ptr<const Result<Ramdisk>> ramdisk(const std::vector<FileReference>& files, bool goes_on = false);
    /// Whether the unpacked kernel contains words; none: cannot be told.
    std::optional<bool> mentions(const FileReference& file, const KernelImage& image, std::string_view words);

private:
    std::map<std::string, std::optional<bool>> mentions_;
    std::map<std::string, std::shared_ptr<const Result<KernelImage>>> kernels_;
    std::map<std::string, std::shared_ptr<const Result<Ramdisk>>> ramdisks_;
};

}  // namespace herberge::walk
