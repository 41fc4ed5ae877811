// SPDX-License-Identifier: MIT
// The parts of a comparison of two machines: each adds what it finds.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include <herberge/change.hpp>
#include <herberge/difference.hpp>
#include <herberge/startup.hpp>

namespace herberge::remedy {

/// What a Linux starts.
struct LinuxRun {
    std::string place;  ///< of the volume with its programs
    LinuxStart start;
};

struct Side {
    /// All live as long as this. `other`: the other side's verdict, for systems of which this one knows no entry.
    Side(const Machine& its_machine, const CheckOptions& its_options, const Verdict& its_verdict, const Verdict& other);
    const Machine& machine;
    const CheckOptions& options;
    const Verdict& verdict;
    std::vector<InstalledSystem> systems;
    std::vector<LinuxRun> runs;  ///< of each Linux that can be read, as the entry asks for that starts it
};
struct Sides {
    Side before, after;
};

/// Makes the second machine as the first one is in one respect; false: it cannot.
using TakeBack = std::function<bool(Workshop&, CheckOptions&)>;

/// A difference, and how it is judged.
struct Seen {
    Difference told;
    std::optional<DiskRange> range;  ///< where it lies, on the second machine's disks
    TakeBack take_back;              ///< null: it cannot be taken back
};
using Differences = std::vector<Seen>;

[[nodiscard]] bool overlap(const DiskRange& one, const DiskRange& other);

/// Adds the difference between two short texts; an empty one: it is not there. Equal ones add nothing. The answer is
/// what was added, or null.
Seen* differ(Differences& out, Stage stage, std::string place, std::string what, std::string before, std::string after);

/// Lines that are only in one of two texts, in order, with "- " and "+ " before them; at most 24.
[[nodiscard]] std::vector<std::string> differing_lines(const std::vector<std::string>& before,
                                                       const std::vector<std::string>& after);

/// Both machines have this volume, with files: what is in it tells more than that it is there.
[[nodiscard]] bool both_have_files(const Sides& sides, const std::string& place);

/// Disks that are there on one side only, partition tables, code in first sectors.
void compare_disks(const Sides& sides, Differences& out);
/// What volumes are: file system, label, identifiers.
void compare_volumes(const Sides& sides, Differences& out);
/// Bytes outside of files that the verdicts rest on and nothing else here tells: boot sectors, a loader's own sectors.
void compare_sectors(const Sides& sides, Differences& out);
/// The files that either start reads.
void compare_files(const Sides& sides, Differences& out);
/// Menus as their loaders understand them.
void compare_menus(const Sides& sides, Differences& out);
void compare_variables(const Sides& sides, Differences& out);
/// What each system would start.
void compare_startup(const Sides& sides, Differences& out);

/// Details of two files that differ, by what they hold. Empty: nothing of it is understood.
struct FileAccount {
    std::string before, after;  ///< in short
    std::vector<std::string> details;
};
enum class FileRole : std::uint8_t { Plain, Kernel, Ramdisk };
[[nodiscard]] FileAccount account_of(const Sides& sides, FileRole role, const ByteSource& before,
                                     const ByteSource& after);
/// The lines of a text of 2 KiB at most, each behind `sign` and a blank, at most 24; none: it is longer, or no text.
[[nodiscard]] std::vector<std::string> lines_of_short(const ByteSource& file, std::string_view sign);

}  // namespace herberge::remedy
