// SPDX-License-Identifier: MIT
// What a kernel's file system driver does not know yet, by the kernel's version.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>
#include <optional>

#include <herberge/system.hpp>

#include "files/features.hpp"

namespace herberge {

namespace {

/// Distributions whose kernels carry later drivers under an old version's number.
bool carries_later_drivers(std::string_view release) {
    static constexpr std::array<std::string_view, 5> marks = {".el", ".amzn", "uek", "-default", ".lve"};
    return std::ranges::any_of(marks, [&](std::string_view mark) { return release.find(mark) != release.npos; });
}

std::string screen_of(Family family, std::uint32_t bits) {
    switch (family) {
        case Family::Ext:
            return fmt::format("EXT4-fs (…): Couldn't mount because of unsupported optional features ({:x})", bits);
        case Family::Xfs:
            return fmt::format(
                "XFS (…): Superblock has unknown incompatible features (0x{:x}) enabled.\n"
                "XFS (…): Filesystem cannot be safely mounted by this kernel.",
                bits);
        default:
            return fmt::format("BTRFS error (device …): cannot mount because of unknown incompat features (0x{:x})",
                               bits);
    }
}

}  // namespace

std::optional<Claim> judge_kernel_features(const VolumeInfo& info, const std::string& place, std::string_view release) {
    const auto version = kernel_version(release);
    if (!version || !(info.is(Family::Ext) || info.is(Family::Xfs) || info.is(Family::Btrfs))) return std::nullopt;
    const Family family = traits_of(info.format).family;
    const std::uint32_t beyond = info.incompatible & ~incompatible_known_to(family, *version);
    // A feature that this table does not know may be one that a later kernel knows.
    const std::uint32_t named = beyond & incompatible_known_to(family, KernelVersion{no_kernel.major - 1, 0});
    if (named == 0) return std::nullopt;
    const std::string text =
        fmt::format("{} is {} with {}, which Linux {}.{} does not know yet", place, info.name(),
                    fmt::join(incompatible_names(family, named), ", "), version->major, version->minor);
    Claim out;
    const std::vector<Evidence> evidence{
        evidence_place(place, fmt::format("features that {} knows", release),
                       fmt::format("{}", fmt::join(incompatible_names(family, named), ", ")))};
    if (carries_later_drivers(release)) {
        out.state = State::Doubtful;
        out.text = fmt::format("{}; but {} may carry a later driver", text, release);
        out.evidence = evidence;
        return out;
    }
    out.break_with(make_finding(Code::RootFeatureTooNew, text, evidence, screen_of(family, beyond)));
    return out;
}

}  // namespace herberge
