// SPDX-License-Identifier: MIT
// All that is known of one machine's start, to be handed on: as a page, for a ticket, for a build's checks.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/mend.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// An image as it was when the report was made.
struct ReportedImage {
    std::string path;
    std::uint64_t size = 0;     ///< bytes
    std::int64_t modified = 0;  ///< seconds since 1970; 0: unknown
    std::string sha256;         ///< of all bytes, 64 hexadecimal digits; empty: not asked for
};

/// How the verdict was reached, for whoever reads it later.
struct ReportOrigin {
    std::string made_by;       ///< program and version
    std::int64_t made_at = 0;  ///< seconds since 1970
    double seconds = 0;        ///< that reading and walking took
    std::vector<ReportedImage> images;
    std::vector<std::string> options;  ///< as given, each with its value
};

/// Owns, or shares, all that it speaks of.
struct BootReport {
    Machine machine;
    Verdict verdict;
    /// For every system that does not start, what would make it; none: it was not looked for.
    std::optional<std::vector<Mending>> mendings;
    std::vector<BootOptionState> boot_options;  ///< of UEFI firmware, where its variables are known
    ReportOrigin origin;
};

/// One page by itself: no script, nothing from a network, light and dark, readable on a phone and on paper. Reads again
/// the bytes and lines that the evidence names.
[[nodiscard]] std::string report_html(const BootReport& report);
/// For tickets and chats (CommonMark with tables).
[[nodiscard]] std::string report_markdown(const BootReport& report);
/// JUnit's XML: each system is a test case. `strict`: what cannot be told fails, instead of being skipped.
[[nodiscard]] std::string report_junit(const BootReport& report, bool strict = false);
/// SARIF 2.1.0 (OASIS standard): each system that does not start, and each finding, is a result; proven changes are its
/// fixes, with their bytes, as far as those are fewer than 64 KiB.
[[nodiscard]] std::string report_sarif(const BootReport& report);
/// "herberge/report/1": the documents of check, layout, systems, entries and mend in one, and how they were made.
[[nodiscard]] std::string report_json(const BootReport& report);

}  // namespace herberge
