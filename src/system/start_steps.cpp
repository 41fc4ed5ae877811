// SPDX-License-Identifier: MIT
#include "system/start_steps.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <set>

#include "system/config_text.hpp"
#include "system/run_levels.hpp"

namespace herberge {

namespace {
constexpr std::size_t most_scripts = 2000;

/// The names behind "TARGETS =" in a file that insserv(8) wrote.
std::set<std::string> targets_of(std::string_view text) {
    std::set<std::string> out;
    constexpr std::string_view lead = "TARGETS =";
    const auto at = text.find(lead);
    if (at == std::string_view::npos) return out;
    text = text.substr(at + lead.size());
    text = text.substr(0, text.find('\n'));
    for (auto& name : blank_words(text)) out.insert(std::move(name));
    return out;
}
}  // namespace

std::vector<std::string> names_in(const FileSystem& fs, const std::string& folder) {
    std::vector<std::string> out;
    const auto there = resolve(fs, folder);
    const auto entries = there ? fs.list(there->file.id) : fail(ErrorKind::NotFound, "no such folder");
    if (!entries) return out;
    for (const auto& one : *entries)
        if (one.name != "." && one.name != ".." && out.size() < most_scripts) out.push_back(one.name);
    std::ranges::sort(out);
    return out;
}

std::string word_of(std::string_view command) {
    while (!command.empty() && (command.front() == '-' || command.front() == '+' || command.front() == '@'))
        command.remove_prefix(1);
    return std::string(command.substr(0, std::min(command.find_first_of(" \t"), command.size())));
}

StartStep& Steps::add(std::string group, std::string name, const std::string& command, std::string because,
                      Evidence said) {
    StartStep step{std::move(group),   std::move(name),           command, word_of(command),
                   std::move(because), UnitOutcome::Kind::Starts, {},      {std::move(said)}};
    if (step.file.starts_with('/')) {
        const auto judged = judge_executable(fs_, root_.place, step.file, init_.processor);
        if (!judged.runs && judged.code) {
            step.state = UnitOutcome::Kind::Fails;
            step.text = judged.why;
            step.evidence.insert(step.evidence.end(), judged.evidence.begin(), judged.evidence.end());
        } else if (!judged.missing_library.empty()) {
            step.state = UnitOutcome::Kind::Fails;
            step.text = judged.missing_library;
        }
    }
    out_.steps.push_back(std::move(step));
    return out_.steps.back();
}

void Steps::scripts(const std::string& group, const std::string& folder, char kind, const std::string& because,
                    const std::string& list) {
    const auto named = list.empty() ? std::set<std::string>{} : targets_of(read_text_file(fs_, list).value_or(""));
    for (const auto& one : level_scripts(fs_, folder, kind)) {
        const auto found = resolve(fs_, one.path);
        // What is no file is passed over without a word.
        if (found && found->file.type != FileType::Regular) continue;
        auto& step = add(group, one.name, fmt::format("{} {}", one.path, kind == 'K' ? "stop" : "start"), because,
                         evidence_place(fmt::format("{}:{}", root_.place, one.path)));
        const bool dangling = !found && !found.error().unreadable();
        const bool left_out = !list.empty() && !named.contains(one.stem());
        if (!dangling && !left_out) continue;
        step.state = UnitOutcome::Kind::Skipped;
        step.text = dangling ? std::string("its link leads to nothing")
                             : fmt::format("{} does not name it: insserv was not run since", list);
    }
}

}  // namespace herberge
