// SPDX-License-Identifier: MIT
// What would be otherwise: changes to a machine's disks that are never written to them.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Bytes of a disk that become others. Both have the same length.
struct Change {
    int disk = 0;              ///< from 1
    std::uint64_t offset = 0;  ///< bytes from the disk's start
    std::vector<std::uint8_t> before;
    std::vector<std::uint8_t> after;
};

/// The size that a patch expects of a disk.
struct PatchedDisk {
    int number = 0;
    std::uint64_t size = 0;
};

/// Changes to the disks of one machine, with what lies there before. The format "herberge/patch/1" (docs/patch.md).
struct Patch {
    std::string title;               ///< one sentence; may be empty
    std::vector<std::string> steps;  ///< the same as a list for people; may be empty
    std::vector<PatchedDisk> disks;  ///< those that change
    std::vector<Change> changes;     ///< ascending by disk and offset, none touching the next

    [[nodiscard]] bool empty() const { return changes.empty(); }
    /// The same the other way round.
    [[nodiscard]] Patch undone() const;
    /// Bytes that change.
    [[nodiscard]] std::uint64_t size() const;
};

/// The patch as a document; ends with a newline.
[[nodiscard]] std::string patch_json(const Patch& patch);
/// Reads such a document. Errors: Malformed with what is wrong and where; Unsupported for another schema; TooLarge
/// beyond 1 GiB of bytes.
[[nodiscard]] Result<Patch> read_patch(std::string_view text);

/// A machine under change: its disks with an overlay each. Nothing reaches the disks themselves.
class Workshop {
public:
    explicit Workshop(const Machine& machine);

    /// Lays bytes over a disk. Errors: NotFound (no such disk), OutOfRange.
    Result<void> write(int disk, std::uint64_t offset, std::span<const std::uint8_t> bytes);
    /// Lays bytes over what `source` (a volume, a file) has at `offset`, wherever that lies. Errors: Unsupported where
    /// they do not lie on a disk as they are (compressed, encrypted, computed), OutOfRange, and what reading gives.
    Result<void> write(const ByteSource& source, std::uint64_t offset, std::span<const std::uint8_t> bytes);
    /// All changes of a patch; Errors: Malformed where the disk has another size or the bytes before differ (nothing
    /// is changed then), and what reading gives.
    Result<void> apply(const Patch& patch);

    /// The machine as it would be: read anew from the changed disks. What it gives owns all that it needs.
    [[nodiscard]] Machine machine() const;
    /// A disk as it would be, at this moment; null: no such disk.
    [[nodiscard]] Source disk(int number) const;
    /// All changes so far.
    [[nodiscard]] Patch patch(std::string title, std::vector<std::string> steps) const;
    [[nodiscard]] bool changed() const;
    /// Another one with the same changes so far; copying a Workshop shares them instead.
    [[nodiscard]] Workshop copy() const;

private:
    struct Bench {
        int number;
        Source before;
        std::shared_ptr<Overlay> after;
    };
    Machine original_;
    std::vector<Bench> benches_;
};

}  // namespace herberge
