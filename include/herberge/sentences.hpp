// SPDX-License-Identifier: MIT
// Values as sentences for people. Nothing reads them again.
#pragma once

#include <string>

#include <herberge/chain.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Where a statement comes from, what was expected there and what was found, on one line. As it was found: pass it
/// through `shown` before a person sees it.
[[nodiscard]] std::string evidence_text(const Evidence& evidence);

/// What starts the machine: "a BIOS", "UEFI firmware", "the board sunxi-h3-brom (Allwinner H3, H2+)".
[[nodiscard]] std::string firmware_words(const Verdict& verdict);

/// "starts", "will not start: stops at kernel", "holds as far as entry; the rest cannot be told from these images
/// alone".
[[nodiscard]] std::string verdict_sentence(const SystemVerdict& system);
/// The last of these, for a system of which it cannot be told whether it starts.
[[nodiscard]] std::string untold_sentence(const SystemVerdict& system);

/// "entry 1>0 “Almhof Linux, older” would start it": another entry of a system that gets further.
[[nodiscard]] std::string fallback_sentence(const Fallback& fallback);
/// How the system's entry comes to start, behind its title: "which starts unattended", "which waits for a password".
[[nodiscard]] std::string entry_sentence(const SystemVerdict& system);

/// "2 of 3 systems would not start": all verdicts together.
[[nodiscard]] std::string headline(const Verdict& verdict);

/// "Debian GNU/Linux 12 (d1p2)"; printable.
[[nodiscard]] std::string system_title(const SystemVerdict& system);

/// What a proposal's change does to a system: "starts", "gets as far as root".
struct SystemTurn;
[[nodiscard]] std::string turn_sentence(const SystemTurn& turn);

}  // namespace herberge
