// SPDX-License-Identifier: MIT
// The same walk under changes that nobody made.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/change.hpp>
#include <herberge/compare.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What is to be different. Places are written as everywhere: "d1p2", "d1p1:/boot/grub/grub.cfg".
struct Supposition {
    std::vector<int> order;           ///< the disks as the firmware tries them; the others follow; empty: as given
    std::vector<int> without;         ///< disks that are not there
    std::vector<Patch> patches;       ///< applied in their order, before the rest
    std::vector<std::string> active;  ///< the only active partition of its disk
    std::vector<std::pair<std::string, std::string>> identifiers;  ///< place and the UUID or serial it has instead
    std::vector<std::pair<std::string, std::vector<std::uint8_t>>>
        contents;  ///< a file that is there, and what it holds; a shorter text is filled up with line ends
    std::vector<std::string> removed;  ///< files that nobody finds any more
    std::optional<AtMenu> at_menu;     ///< what somebody does at the loader's menu
    std::vector<std::string> keys;     ///< … as the keys that are pressed there (choice_by_keys)

    [[nodiscard]] bool empty() const;
    /// What is supposed, as lines for people.
    [[nodiscard]] std::vector<std::string> lines() const;
};

/// Adds one line of a text file: a word and what belongs to it, as the command line has them:
///   order d2,d1 / without d2 / patch FILE / active d1p2 / identifier d1p2=UUID / content PLACE=FILE / remove PLACE /
///   choose ENTRY / keys down,enter / kernel PLACE / ramdisk PLACE / arguments TEXT
/// Empty lines and those that begin with # say nothing. `read` gives the content of a FILE. Errors: Malformed.
[[nodiscard]] Result<void> add_supposition(
    Supposition& to, std::string_view line,
    const std::function<Result<std::vector<std::uint8_t>>(const std::string& path)>& read);

/// The entry that these keys start in a menu: "up", "down", "home", "end", "enter", "esc", from the entry that is
/// marked when it appears. One that is hidden is shown by a first "esc". Gives the entry's place ("1>0"). Errors:
/// Malformed (another key, nothing is started in the end), NotFound (the menu has no entry), Unsupported (it cannot be
/// stopped by a key).
[[nodiscard]] Result<std::string> choice_by_keys(const Menu& menu, const std::vector<std::string>& keys);

/// A machine as it would be, and what it differs in.
struct Supposed {
    Machine machine;
    Patch patch;  ///< the bytes that were changed for it; none: nothing on the disks
};
/// Errors: NotFound (no such disk, volume or file), Malformed (a patch that does not fit), Unsupported (a change that
/// cannot be made in place).
[[nodiscard]] Result<Supposed> suppose(const Machine& machine, const Supposition& what);

}  // namespace herberge
