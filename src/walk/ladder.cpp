// SPDX-License-Identifier: MIT
#include "walk/ladder.hpp"

#include <fmt/format.h>

#include <herberge/budget.hpp>

namespace herberge::walk {

namespace {

bool budget_spent() {
    const auto* budget = current_budget();
    return budget != nullptr && budget->spent();
}
std::string used_up() {
    return fmt::format("what the walk may cost was used up before this could be judged ({})",
                       cost_name(*current_budget()->spent()));
}

}  // namespace

void Ladder::tell_budget() {
    if (!budget_spent() || first_break()) return;
    for (auto& r : stages_) {
        if (r.state == State::Unknown) return;
        if (r.state != State::NotReached) continue;
        set(r.stage, State::Unknown, used_up());
        return;
    }
}

Ladder::Ladder() {
    for (const Stage stage : all_stages()) rung(stage).stage = stage;
}

void Ladder::set(Stage stage, State state, std::string text, std::vector<Evidence> evidence) {
    auto& r = rung(stage);
    r.state = state;
    r.text = std::move(text);
    r.evidence = std::move(evidence);
}

void Ladder::go_on(Stage stage, State state, const std::string& text, std::vector<Evidence> evidence) {
    auto& r = rung(stage);
    if (r.state != State::Holds && r.state != State::Doubtful) {
        set(stage, state, text, std::move(evidence));
        return;
    }
    if (state != State::Holds) r.state = state;
    r.text += "; then " + text;
    r.evidence.insert(r.evidence.end(), evidence.begin(), evidence.end());
}

void Ladder::set(Stage stage, const Claim& claim) {
    // What fails once the budget is used up fails for that reason.
    if (claim.state == State::Breaks && budget_spent()) {
        set(stage, State::Unknown, used_up());
        return;
    }
    set(stage, claim.state, claim.text, claim.evidence);
    for (auto finding : claim.findings) {
        finding.stage = stage;
        add_finding(std::move(finding));
    }
    if (claim.state != State::Breaks || claim.findings.empty()) return;
    const std::string& symptom = claim.findings.front().symptom;
    if (!symptom.empty() && (!symptom_stage_ || stage < *symptom_stage_)) {
        symptom_ = symptom;
        symptom_stage_ = stage;
    }
}

void Ladder::breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
    breaks(make_finding(code, std::move(text), std::move(evidence), std::move(symptom)));
}

void Ladder::breaks(Finding finding) { set(broken(std::move(finding))); }

void Ladder::add_finding(Finding finding) {
    rung(finding.stage).findings.push_back(finding.code);
    findings_.push_back(std::move(finding));
}

void Ladder::support(Stage stage, std::string_view words, Evidence evidence) {
    auto& r = rung(stage);
    r.text += words;
    r.evidence.push_back(std::move(evidence));
}

std::optional<Stage> Ladder::first_break() const {
    for (const auto& r : stages_)
        if (r.state == State::Breaks) return r.stage;
    return std::nullopt;
}

Starts Ladder::starts() const {
    if (first_break()) return Starts::No;
    for (const auto& r : stages_)
        if (r.state == State::Unknown || r.state == State::NotReached) return Starts::Unknown;
    return Starts::Yes;
}

}  // namespace herberge::walk
