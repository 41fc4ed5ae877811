// SPDX-License-Identifier: MIT
// From the symptom back: what was seen on a screen, and what may have brought it there.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Who counts errors by numbers.
enum class NumberKind : std::uint8_t {
    NtStatus,    ///< Windows' loaders and kernel: 0xC000000F
    StopCode,    ///< a blue screen: 0x0000007B
    EfiStatus,   ///< UEFI firmware: 0x800000000000000E, or its words
    GrubLegacy,  ///< "Error 15"
    BiosDisk,    ///< what INT 13h gives back in AH; LILO writes it behind its letters
    LinuxErrno,  ///< "error -6"
};
/// "NTSTATUS", "stop code" …
[[nodiscard]] std::string_view number_kind_name(NumberKind kind);

/// One row of the table of numbers.
struct KnownNumber {
    NumberKind kind;
    std::uint64_t value;
    std::string_view name;     ///< as published: "STATUS_NO_SUCH_FILE"; empty: it has none
    std::string_view meaning;  ///< one sentence
};
[[nodiscard]] std::span<const KnownNumber> known_numbers();
/// What `value` means to `kind`; null: it is not in the table. It lives forever.
[[nodiscard]] const KnownNumber* find_number(NumberKind kind, std::uint64_t value);

/// A number in a text, decoded.
struct SeenNumber {
    std::string written;  ///< "c000000f"
    NumberKind kind = NumberKind::NtStatus;
    std::uint64_t value = 0;
    const KnownNumber* known = nullptr;  ///< null: it has the form of such a number, and is not in the table
};

/// What an image says of a cause.
enum class Borne : std::uint8_t {
    Unasked,   ///< no image was looked at
    Real,      ///< this image has it
    Possible,  ///< neither proven nor excluded: the stage was not reached, or cannot be judged
    Excluded,  ///< the stage holds for every system on it
};
[[nodiscard]] std::string_view borne_id(Borne borne);

/// Something that may have brought the screen about.
struct Cause {
    Code code{};
    Stage stage = Stage::Firmware;
    double fit = 0;                  ///< 0 to 1: how well the text fits
    std::string screen;              ///< the screen of the table that it fits, in general terms
    std::string line;                ///< the line of the text that fits best
    std::vector<std::string> apart;  ///< other screens by which it would differ from its neighbours; may be empty
    Borne borne = Borne::Unasked;
    std::string borne_text;  ///< why; empty: Unasked
};

/// A line that tells how far the machine came.
struct Milestone {
    std::string line;
    Stage through = Stage::Firmware;  ///< the last stage that completes before such a line
    std::string meaning;
};

/// All that the text says of one stage.
struct StageAnswer {
    Stage stage = Stage::Firmware;
    double fit = 0;             ///< of the best cause, or of what the milestones leave
    std::string why;            ///< from milestones, when no cause has a screen like this; may be empty
    std::vector<Cause> causes;  ///< best first
};

struct SymptomReading {
    std::vector<SeenNumber> numbers;
    std::vector<Milestone> milestones;  ///< in the order of the text
    std::vector<StageAnswer> answers;   ///< best first; empty: the text is not known
    std::vector<std::string> nearest;   ///< screens of the table that resemble the text, when there is no answer
};

/// Reads what was seen on a screen: one line or many, typed by hand, in part, in any case and spacing. The text is cut
/// behind 64 KiB and 1000 lines (the last ones count: a screen ends where the machine stopped).
[[nodiscard]] SymptomReading read_symptom(std::string_view text);

/// Marks each cause by what `verdict` says of the image, and puts those first that it really has; those last that it
/// cannot have. A stage that the image stops at and the text does not name is not added.
void weigh_by_image(SymptomReading& reading, const Verdict& verdict);

}  // namespace herberge
