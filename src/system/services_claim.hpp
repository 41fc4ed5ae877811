// SPDX-License-Identifier: MIT
// What is said of the stage Services, while it is put together.
#pragma once

#include <fmt/format.h>
#include <string>
#include <utility>
#include <vector>

#include <herberge/finding.hpp>
#include <herberge/storage.hpp>

#include "system/config_text.hpp"

namespace herberge {

struct ServicesClaim {
    const Volume& root;
    const FileSystem& fs;
    Claim claim = {};
    std::string unseen = {};     ///< what cannot be looked at, in place of a statement about it; empty: all was
    std::string unmounted = {};  ///< what it means that the list of mounts is not given; empty: it is given
    int checked = 0;             ///< things that were looked at

    [[nodiscard]] std::string at(std::string_view path) const { return fmt::format("{}:{}", root.place, path); }

    void breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
        claim.break_with(make_finding(code, std::move(text), std::move(evidence), std::move(symptom)));
    }
    void risk(Code code, std::string text, std::vector<Evidence> evidence) {
        claim.findings.push_back(make_finding(code, std::move(text), std::move(evidence)));
    }
    void untold(std::string text, Evidence evidence) {
        if (unseen.empty()) unseen = std::move(text);
        claim.evidence.push_back(std::move(evidence));
    }
    /// A text file of the root; when the medium does not give it, that is said, and it is neither there nor absent.
    Result<std::string> text_of(const std::string& path) {
        auto text = read_text_file(fs, path);
        if (!text && text.error().unreadable())
            untold(fmt::format("{} cannot be read: {}", path, text.error().what), evidence_error(text.error()));
        return text;
    }
};

}  // namespace herberge
