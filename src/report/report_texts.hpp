// SPDX-License-Identifier: MIT
// What the forms of a report have in common: sentences, and tables as rows of texts. Nothing here is escaped.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include <herberge/boot_report.hpp>

namespace herberge::report {

using Row = std::vector<std::string>;

/// "d1 desk.img (16.0 MiB), started by a BIOS"
[[nodiscard]] std::string machine_line(const BootReport& report);
/// The rung at which a system stops, or from which on it cannot be told; null: it starts.
[[nodiscard]] const StageState* deciding(const SystemVerdict& system);
/// Null: none was made, or it starts.
[[nodiscard]] const Mending* mending_of(const BootReport& report, const SystemVerdict& system);
[[nodiscard]] std::string_view state_words(State state);
/// "17 bytes in 2 places change"
[[nodiscard]] std::string patch_size_sentence(const Patch& patch);

/// "16.0 MiB, MBR, signature a1b2c3d4"
[[nodiscard]] std::string disk_sentence(const Disk& disk);
[[nodiscard]] Row partition_head();
[[nodiscard]] std::vector<Row> partition_rows(const Disk& disk);
[[nodiscard]] Row layered_head();
[[nodiscard]] std::vector<Row> layered_rows(const Machine& machine);
[[nodiscard]] Row option_head();
[[nodiscard]] std::vector<Row> option_rows(const BootReport& report);
[[nodiscard]] Row entry_head();
[[nodiscard]] std::vector<Row> entry_rows(const Menu& menu);

[[nodiscard]] std::vector<std::pair<std::string, std::string>> origin_facts(const ReportOrigin& origin);
[[nodiscard]] Row image_head();
[[nodiscard]] std::vector<Row> image_rows(const ReportOrigin& origin);

}  // namespace herberge::report
