// SPDX-License-Identifier: MIT
// The inn's ledger server: two mirrored disks, on them a group of logical volumes, in it an encrypted volume with XFS.
#pragma once

#include "demo_disks.hpp"

namespace demo {

struct Ledger {
    forge::Tree boot;     ///< the array "boot": the loader's files, kernel and RAM disk
    forge::Tree root;     ///< the encrypted volume
    forge::Tree ramdisk;  ///< packed into the boot array
    std::string group = "almhof";
    bool key_slot_scratched = false;
    /// The first disk and the second.
    [[nodiscard]] std::array<forge::Bytes, 2> build() const;
};
/// The machine as it should be: change its parts, then build() the disks.
Ledger ledger();

inline constexpr const char* ledger_passphrase = "the blue book behind the counter";
/// Where the encrypted volume lies.
inline constexpr const char* ledger_vault = "lvm/almhof/books";

/// A state of the machine: its disks' files, as many as are plugged in.
struct LedgerStory {
    std::string name;
    std::string story;
    std::string stops_at;  ///< a stage; empty: it starts
    std::vector<std::string> files;
    std::function<void(Ledger&)> change;
    bool told = true;  ///< somebody tells the passphrase
};
std::vector<LedgerStory> ledger_stories();

}  // namespace demo
