// SPDX-License-Identifier: MIT
// Results as documents: values in, text out.
#pragma once

#include <string>
#include <vector>

#include <herberge/board.hpp>
#include <herberge/chain.hpp>
#include <herberge/compare.hpp>
#include <herberge/efi_files.hpp>
#include <herberge/fields.hpp>
#include <herberge/mend.hpp>
#include <herberge/rehearsal.hpp>
#include <herberge/startup.hpp>
#include <herberge/storage.hpp>
#include <herberge/symptom.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// The contract "herberge/check/1". Ends with a newline.
[[nodiscard]] std::string check_json(const Machine& machine, const Verdict& verdict);
/// "herberge/systems/1": every system with the entries and kernels it has, and the graph of who starts whom.
[[nodiscard]] std::string systems_json(const Verdict& verdict, const std::vector<EfiFile>& efi_files = {});
/// The graph in the DOT language, and as a drawing of its own.
[[nodiscard]] std::string graph_dot(const Verdict& verdict);
[[nodiscard]] std::string graph_svg(const Verdict& verdict);
/// "herberge/startup/1": what a system would start.
[[nodiscard]] std::string startup_json(const InstalledSystem& system, const WindowsStartup& start,
                                       const std::vector<DriveLetter>& letters);
/// "herberge/startup-linux/1": the same of a Linux system.
[[nodiscard]] std::string linux_startup_json(const InstalledSystem& system, const LinuxStart& start);
/// "herberge/run-levels/1".
[[nodiscard]] std::string run_levels_json(const InstalledSystem& system, const LevelTable& table);
/// "herberge/layout/1": disks, partitions, gaps.
[[nodiscard]] std::string layout_json(const Machine& machine);
/// "herberge/entries/1": every menu.
[[nodiscard]] std::string entries_json(const std::vector<Menu>& menus,
                                       const std::vector<BootOptionState>& options = {});
/// "herberge/sector/1": the fields of one sector.
[[nodiscard]] std::string sector_json(const std::string& place, const std::string& kind,
                                      const std::vector<Field>& fields);
/// "herberge/files/1": a directory.
struct ListedFile {
    std::string name;
    FileInfo info;
    std::string target;  ///< of a link
};
/// A store's variables, each with its fields; `name` empty: all of them.
[[nodiscard]] std::string variables_json(const UefiVariables& variables, const std::string& name);
[[nodiscard]] std::string files_json(const std::string& place, const std::vector<ListedFile>& files);
/// "herberge/rehearsal/1".
[[nodiscard]] std::string rehearsal_json(const Rehearsal& rehearsal);
/// "herberge/symptom/1": what a screen may come from.
[[nodiscard]] std::string symptom_json(const SymptomReading& reading);
/// "herberge/boards/1": a list of boards.
[[nodiscard]] std::string boards_json(const std::vector<const Board*>& boards);
/// "herberge/mend/1": every system that does not start, and what would make it start.
[[nodiscard]] std::string mend_json(const std::vector<Mending>& mendings);
/// "herberge/suppose/1": what was supposed, what that changes, and the verdict as "herberge/check/1".
[[nodiscard]] std::string suppose_json(const std::vector<std::string>& supposed, const Machine& machine,
                                       const Verdict& verdict, const std::vector<SystemTurn>& turns);
/// The table of all finding codes as a Markdown page (docs/findings.md).
[[nodiscard]] std::string findings_markdown();

}  // namespace herberge
