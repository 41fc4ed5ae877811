// SPDX-License-Identifier: MIT
// Results as text for people.
#pragma once

#include <string>

#include <herberge/herberge.hpp>

#include "terminal.hpp"

namespace tool {

/// Verdicts first, then each system's ladder. `all_evidence`: also for stages that hold.
std::string check_text(const herberge::Machine& machine, const herberge::Verdict& verdict, const Terminal& terminal,
                       bool all_evidence);
std::string systems_text(const herberge::Verdict& verdict, const Terminal& terminal);
std::string efi_files_text(const std::vector<herberge::EfiFile>& files, const Terminal& terminal);
std::string startup_text(const herberge::InstalledSystem& system, const herberge::WindowsStartup& start,
                         const std::vector<herberge::DriveLetter>& letters, const Terminal& terminal);
std::string linux_startup_text(const herberge::InstalledSystem& system, const herberge::LinuxStart& start,
                               const Terminal& terminal);
/// What only one of two starts does.
std::string start_difference_text(const herberge::LinuxStart& first, const herberge::LinuxStart& second,
                                  const Terminal& terminal);
std::string run_levels_text(const herberge::InstalledSystem& system, const herberge::LevelTable& table,
                            const Terminal& terminal);
std::string layout_text(const herberge::Machine& machine, const Terminal& terminal);
std::string sector_text(const herberge::SectorView& view, const Terminal& terminal);
std::string boot_options_text(const std::vector<herberge::BootOptionState>& options, const Terminal& terminal);
/// Secure Boot's state and its databases, each certificate with issuer, validity and fingerprint.
std::string secure_boot_text(const herberge::UefiVariables& variables, const Terminal& terminal);
/// All variables as a list, or those of one name field by field.
std::string variables_text(const herberge::UefiVariables& variables, const std::string& name, const Terminal& terminal);
std::string entries_text(const std::vector<herberge::Menu>& menus, const Terminal& terminal);
std::string files_text(const std::string& place, const std::vector<herberge::ListedFile>& files,
                       const Terminal& terminal);
/// How each system fares in the second of two verdicts.
std::string turn_lines(const std::vector<herberge::SystemTurn>& turns, const Terminal& terminal);
/// What was supposed, and how each system fares by it.
std::string turns_text(const std::vector<std::string>& supposed, const std::vector<herberge::SystemTurn>& turns,
                       const Terminal& terminal);
/// The proposals for each system that does not start, numbered through.
std::string mend_text(const std::vector<herberge::Mending>& mendings, const Terminal& terminal);
/// One proposal as a list to follow by hand.
std::string steps_text(const herberge::Proposal& proposal);
std::string symptom_text(const herberge::SymptomReading& reading, const Terminal& terminal);
std::string boards_text(const std::vector<const herberge::Board*>& boards, const Terminal& terminal);
std::string rehearsal_text(const herberge::Rehearsal& rehearsal, const Terminal& terminal);

}  // namespace tool
