// SPDX-License-Identifier: MIT
// What each command does with its arguments.
#pragma once

#include <string>
#include <vector>

namespace tool {

/// Exit statuses of the design: every system starts; some does not; wrong usage; an input cannot be read or an output
/// not written; none is known not to start, and some cannot be told.
enum Exit : int { all_start = 0, some_fail = 1, usage = 2, unreadable = 3, cannot_tell = 4 };

/// As --version says it.
inline constexpr const char* program_version = "herberge 0.1.0";

struct Options {
    std::vector<std::string> images;
    std::string format = "text";
    std::string firmware = "auto";
    bool stats = false;
    bool optical = false;
    bool boot_sectors = false;
    bool kinds = false;  ///< sector
    bool all_evidence = false;
    std::string place;                       ///< --at, --in, --from
    std::string structure;                   ///< sector --as
    std::uint64_t byte = 0;                  ///< sector --byte
    std::uint64_t count = 1;                 ///< sector --count
    std::string output;                      ///< --to
    std::string folder;                      ///< demo
    std::string keys;                        ///< rehearse: "2:esc,3.5:enter"
    std::string until;                       ///< rehearse: a stage
    double millions = 400;                   ///< rehearse: budget of instructions
    std::vector<std::string> unlock;         ///< PLACE=FILE, each
    std::vector<std::string> flash_layouts;  ///< dN=WORDS or dN=FILE, each
    std::vector<std::string> nand;           ///< dN=PAGE+SPARE, each
    std::vector<std::string> boot_areas;     ///< dN=FILE, each
    std::vector<std::string> levels;         ///< startup: run levels or targets, at most two
    bool all_levels = false;                 ///< startup --levels
    std::string start_mode;                  ///< startup --mode; empty: the normal one
    std::string unreadable;                  ///< a list of unreadable sectors
    std::string secure_boot = "auto";
    std::string variables;      ///< a UEFI variable store
    std::string name;           ///< variables: one of them
    bool no_rehearsal = false;  ///< check
    bool strict = false;        ///< check: what cannot be told counts as not starting
    bool replace = false;       ///< copy, mend
    std::string patch_to;       ///< mend: files to write
    std::string undo_to;
    std::string steps_to;
    std::string variables_to;           ///< mend: the firmware's variables as a proposal has them
    std::string patch;                  ///< apply
    std::vector<std::string> copies;    ///< apply: --to, one for each disk that changes
    bool device_yes = false;            ///< apply: a copy may be a block device
    int proposal = 1;                   ///< mend: which one
    std::vector<std::string> seen;      ///< symptom: lines
    std::vector<std::string> supposed;  ///< suppose: lines, each as in the file of changes
    std::string changes;                ///< suppose: a file of such lines
    bool no_mending = false;            ///< report: without proposals
    bool hash = false;                  ///< report: with digests of the images
    std::vector<std::string> with;      ///< compare: the second machine's images
    std::string variables_with;         ///< compare: the second machine's variables
    std::string seen_in;                ///< symptom: a file of them, - for standard input
};

int run_check(const Options& options);
int run_systems(const Options& options);
int run_startup(const Options& options);
int run_layout(const Options& options);
int run_sector(const Options& options);
/// The kinds of structures that `sector --as` takes.
int list_structures();
int run_files(const Options& options);
int run_copy(const Options& options);
int run_entries(const Options& options);
int run_variables(const Options& options);
int run_rehearse(const Options& options);
/// From a screen back to what may have brought it about; some_fail: the text is not known.
int run_symptom(const Options& options);
int run_boards(const Options& options);
/// some_fail: a system has no proposal.
int run_mend(const Options& options);
int run_apply(const Options& options);
int run_suppose(const Options& options);
/// all_start, some_fail or cannot_tell, as with check.
int run_report(const Options& options);
/// all_start: nothing differs; some_fail: something does.
int run_compare(Options options);
int run_demo(const Options& options);

}  // namespace tool
