// SPDX-License-Identifier: MIT
// The vocabulary of verdicts: stages, their states, findings and the evidence for them.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// The stages of a start, in order. "Stops at S": S is the first stage that cannot complete.
enum class Stage : std::uint8_t {
    Firmware,
    PartitionTable,
    BootCode,
    BootSector,
    Loader,
    Configuration,
    Entry,
    Kernel,
    Ramdisk,
    Root,
    Init,
    Services,
};
inline constexpr std::size_t stage_count = 12;

/// The stage's stable identifier: "partition-table".
[[nodiscard]] std::string_view stage_id(Stage stage);
/// What it means that the stage completes, in one sentence.
[[nodiscard]] std::string_view stage_meaning(Stage stage);
[[nodiscard]] std::optional<Stage> stage_from_id(std::string_view id);
[[nodiscard]] std::span<const Stage, stage_count> all_stages();

enum class State : std::uint8_t { Holds, Breaks, Doubtful, Unknown, NotReached, NotNeeded };
[[nodiscard]] std::string_view state_id(State state);

enum class Severity : std::uint8_t { Breaks, Risk, Note };
[[nodiscard]] std::string_view severity_id(Severity severity);

/// Where a statement comes from. At least one of `range` and `place` is set.
struct Evidence {
    std::optional<DiskRange> range;  ///< bytes on a disk
    std::string place;               ///< "d1p1:/boot/grub/grub.cfg", "d1p2"
    std::optional<int> line;         ///< a line of the file named by `place`, counted from 1
    std::string expected;
    std::string found;
};

/// Evidence naming bytes of a source; the first disk range stands for all.
[[nodiscard]] Evidence evidence_bytes(const ByteSource& source, std::uint64_t offset, std::uint64_t length,
                                      std::string expected = {}, std::string found = {});
/// Evidence naming a file or volume.
[[nodiscard]] Evidence evidence_place(std::string place, std::string expected = {}, std::string found = {});
[[nodiscard]] Evidence evidence_line(std::string place, int line, std::string expected = {}, std::string found = {});
/// Evidence made from an Error.
[[nodiscard]] Evidence evidence_error(const Error& error);

/// What there is to find; codes.def has them all, with stage, severity and meaning.
enum class Code : std::uint16_t {
#define HERBERGE_CODE(name, id, stage, severity, meaning, symptom) name,
#include <herberge/codes.def>
#undef HERBERGE_CODE
};
inline constexpr std::size_t code_count = std::size({
#define HERBERGE_CODE(name, id, stage, severity, meaning, symptom) Code::name,
#include <herberge/codes.def>
#undef HERBERGE_CODE
});

/// The code's stable identifier: "gpt-array-crc".
[[nodiscard]] std::string_view code_id(Code code);

struct Finding {
    Code code{};
    Stage stage = Stage::Firmware;
    Severity severity = Severity::Note;
    std::string text;  ///< one sentence for people
    std::vector<Evidence> evidence;
    std::string symptom;  ///< what a person at the screen would see; empty: nothing or not applicable
};

/// One row of the table of all codes.
struct FindingCode {
    Code code;
    std::string_view id;
    Stage stage;        ///< the stage it usually concerns
    Severity severity;  ///< the severity it usually has
    std::string_view meaning;
    std::string_view symptom;  ///< what the screen shows: screens in general terms with " | " between; may be empty
};
[[nodiscard]] std::span<const FindingCode> finding_codes();
/// The screens that a code may show, in general terms: "…" stands for what differs from one machine to the next, a text
/// in parentheses for what no text says. The first is the most usual; none: nothing is seen of it. They live forever.
[[nodiscard]] std::vector<std::string_view> screens_of(Code code);
/// Whether the fixed parts of `general`, one of `screens_of`, stand in `screen` in their order.
[[nodiscard]] bool is_such_screen(std::string_view screen, std::string_view general);

/// What can be said of one stage on the way to a system, and by which evidence.
struct Claim {
    Stage stage = Stage::Firmware;
    State state = State::Unknown;
    std::string text;
    std::vector<Evidence> evidence;
    std::vector<Finding> findings;  ///< with State::Breaks the first one is what breaks it

    /// `finding` breaks the stage: text, evidence and symptom are its own. One that breaks it already stays the first.
    void break_with(Finding finding);
};
/// The claim that `finding` breaks its stage, whatever its usual severity.
[[nodiscard]] Claim broken(Finding finding);
/// The same for code that may be the first one or a volume's boot sector: it breaks the stage that it stands at.
[[nodiscard]] Claim broken(Finding finding, Stage stage);
/// The claim that nothing can be told of a stage; `text` says what is missing.
[[nodiscard]] Claim untold(Stage stage, std::string text, std::vector<Evidence> evidence = {});

/// A finding with the table's stage and severity for `code`.
[[nodiscard]] Finding make_finding(Code code, std::string text, std::vector<Evidence> evidence = {},
                                   std::string symptom = {});

}  // namespace herberge
