// SPDX-License-Identifier: MIT
// What differs between two machines along the way that a start takes.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/compare.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class DifferenceKind : std::uint8_t { Added, Removed, Changed };
/// "added", "removed", "changed"
[[nodiscard]] std::string_view difference_id(DifferenceKind kind);

/// One thing that a start looks at and that is otherwise on the second machine.
struct Difference {
    Stage stage = Stage::Firmware;  ///< the stage that it belongs to
    DifferenceKind kind = DifferenceKind::Changed;
    std::string place;                 ///< "d1p1", "d1p1:/boot/grub/grub.cfg"; empty: of the firmware's variables
    std::string what;                  ///< "active flag", "entry “Almhof Linux”: arguments"
    std::string before;                ///< as it was, on one line; empty: it was not there, or has no short form
    std::string after;                 ///< the same of the second machine
    std::vector<std::string> details;  ///< lines, members, modules, each with "+ " or "- " before it
    /// What decides a verdict that changed names it as its evidence, in either machine.
    bool explains = false;
    /// It was taken back on an overlay of the second machine, and every system fared as on the first.
    bool decides = false;
};

/// Two machines beside each other.
struct Comparison {
    Verdict before, after;
    std::vector<SystemTurn> systems;
    /// What decides a changed verdict first, then what explains it, then by stage.
    std::vector<Difference> differences;
    /// Nothing that a start looks at differs, and no verdict does.
    [[nodiscard]] bool alike() const;
};

/// Compares tables, boot code, what volumes are, the files that a start reads (by their content; kernels, RAM disks,
/// configurations and boot stores by what is in them), menus and their effective choice, the firmware's variables,
/// what each system starts (of Linux with the files that say so, and the programs), and verdicts. What no start looks
/// at is left out. Costs two checks, reading each such file once (up to 64 MiB of it), and where a verdict changed a
/// check for each difference that can be taken back, 24 at most.
[[nodiscard]] Comparison compare_machines(const Machine& before, const CheckOptions& options_before,
                                          const Machine& after, const CheckOptions& options_after);
/// "herberge/compare/1".
[[nodiscard]] std::string comparison_json(const Comparison& comparison);

}  // namespace herberge
