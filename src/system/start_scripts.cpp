// SPDX-License-Identifier: MIT
#include "system/start_scripts.hpp"

#include <algorithm>
#include <array>

#include "bytes/listed.hpp"
#include "loader/text.hpp"
#include "system/config_text.hpp"

namespace herberge {
namespace {

using loader::trim;

/// Whether a script's line looks at how a command ends, which stands between `before` and `behind`.
bool failure_matters(std::string_view before, std::string_view behind) {
    for (const std::string_view word : {"if ", "! ", "while ", "until "})
        if (before.find(word) != std::string_view::npos) return true;
    if (behind.find("$?") != std::string_view::npos || behind.starts_with("&&")) return true;
    if (!behind.starts_with("||")) return false;
    const auto then = trim(behind.substr(2));
    return std::ranges::none_of(std::array<std::string_view, 5>{"true", ":", "echo", "printf", "logger"},
                                [&](std::string_view harmless) { return then.starts_with(harmless); });
}

}  // namespace

MountsAll mounts_everything(std::string_view script) {
    const bool exits = script.find("\nset -e") != std::string_view::npos || script.starts_with("#!/bin/sh -e");
    auto out = MountsAll::No;
    bool looks_at_next = false;  // the line before mounts
    each_line(script, [&](int, std::string_view line) {
        line = trim(line);
        if (line.empty() || line.starts_with('#')) return;
        if (looks_at_next && line.find("$?") != std::string_view::npos) out = MountsAll::StopsWithout;
        looks_at_next = false;
        for (auto at = line.find("mount"); at != std::string_view::npos; at = line.find("mount", at + 1)) {
            const auto end = std::min(line.find_first_of(";|&", at), line.size());
            const auto rest = line.substr(at + 5, end - at - 5);
            if (!rest.starts_with("all") && !(rest.starts_with(' ') && (rest.find(" -a") != std::string_view::npos ||
                                                                        rest.find(" --all") != std::string_view::npos)))
                continue;
            looks_at_next = true;
            if (out == MountsAll::No) out = MountsAll::GoesOnWithout;
            if (exits || failure_matters(line.substr(0, at), line.substr(end))) out = MountsAll::StopsWithout;
        }
    });
    return out;
}

}  // namespace herberge
