// SPDX-License-Identifier: MIT
// A remedy: what it would try for a system that stops in its way.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/change.hpp>

namespace herberge::remedy {

/// A system that stops, on a machine as it is now (after the changes that were tried before).
struct Case {
    const Machine& machine;
    const Verdict& verdict;
    const CheckOptions& options;
    const SystemVerdict& system;
    const StageState& rung;  ///< where it stops, or where nothing can be told from

    [[nodiscard]] bool has(Code code) const;
};

/// A change that may help. Making it may fail: then it is none.
struct Idea {
    std::string what;  ///< for people: "set the active flag of d1p1"
    std::string risk;  ///< what it costs, or could be wrong about
    std::function<Result<void>(Workshop&)> make;
    /// Smaller ones are tried first: 0 restores from a copy, 10 rewrites a reference, 20 rebuilds, 30 guesses, 40 gives
    /// up a protection.
    int rank = 0;
    /// What changes in the firmware's settings and variables instead of on disks (`make` is null then).
    std::function<void(CheckOptions&)> set;
};

struct Remedy {
    const char* name;
    void (*propose)(const Case& stopped, std::vector<Idea>& out);
};

/// Every remedy there is.
[[nodiscard]] std::vector<Remedy> remedies();

// One of each kind, by file.
void propose_tables(const Case& stopped, std::vector<Idea>& out);
void propose_partitions(const Case& stopped, std::vector<Idea>& out);
void propose_boot_code(const Case& stopped, std::vector<Idea>& out);
void propose_volume_sectors(const Case& stopped, std::vector<Idea>& out);
void propose_texts(const Case& stopped, std::vector<Idea>& out);
void propose_identifiers(const Case& stopped, std::vector<Idea>& out);
void propose_windows(const Case& stopped, std::vector<Idea>& out);
void propose_marks(const Case& stopped, std::vector<Idea>& out);
void propose_syslinux(const Case& stopped, std::vector<Idea>& out);
void propose_default(const Case& stopped, std::vector<Idea>& out);
void propose_names(const Case& stopped, std::vector<Idea>& out);
void propose_stores(const Case& stopped, std::vector<Idea>& out);
void propose_firmware(const Case& stopped, std::vector<Idea>& out);
void propose_boards(const Case& stopped, std::vector<Idea>& out);
void propose_files(const Case& stopped, std::vector<Idea>& out);
/// What would have to be brought from outside; empty: nothing is known.
[[nodiscard]] std::string to_bring(const Case& stopped);

}  // namespace herberge::remedy
