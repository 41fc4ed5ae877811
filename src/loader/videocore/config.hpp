// SPDX-License-Identifier: MIT
// What the Raspberry Pi's firmware reads of its configuration (Raspberry Pi documentation, "config.txt").
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/board.hpp>

namespace herberge::loader::videocore {

/// One model: what decides between filters and default names.
struct Model {
    std::string_view board;                 ///< name in the table of boards
    std::vector<std::string_view> filters;  ///< sections that count for it, besides [all]
    std::vector<std::string_view> wide;     ///< default kernels of 64 bits, best first; empty: it runs none
    std::vector<std::string_view> narrow;   ///< of 32 bits; empty: it runs none
    bool wide_first = false;                ///< 64 bits unless it is told otherwise
    std::vector<std::string_view> trees;    ///< device trees of its boards: one of them is enough
    std::vector<std::string_view> parts;    ///< the firmware's own files on the card, in the order in which they run
};
/// Null: no board of this family.
[[nodiscard]] const Model* find_model(std::string_view board);

/// A line that counts for a model.
struct Setting {
    std::string value;
    std::string place;  ///< of its file
    int line = 0;
};
struct Config {
    std::map<std::string, Setting, std::less<>> settings;  ///< the last one of each name counts
    std::vector<Setting> overlays;                         ///< dtoverlay, in order: the name alone
    std::optional<Setting> ramdisk;                        ///< initramfs FILE ADDRESS: the whole rest
    [[nodiscard]] std::string value(std::string_view name, std::string_view otherwise = {}) const;
    [[nodiscard]] int line(std::string_view name) const;
};
/// What `text` says to this model; `include` gives other files' texts, none: not there. Bounds: 8 files deep, 20,000
/// lines. Lines beyond 98 characters are cut there, as the firmware does.
using Include = std::optional<std::string> (*)(const void* context, std::string_view name);
void read_config(std::string_view text, const std::string& place, const Model& model, Config& out, Include include,
                 const void* context, int depth = 0);
/// autoboot.txt: the partition that it names, `trial`: for a trial start (tryboot); none: it names none.
[[nodiscard]] std::optional<int> autoboot_partition(std::string_view text, bool trial = false);

}  // namespace herberge::loader::videocore
