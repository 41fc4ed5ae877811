// SPDX-License-Identifier: MIT
// Filling a ladder of stages and reading the verdict off it.
#pragma once

#include <herberge/chain.hpp>

namespace herberge::walk {

class Ladder {
public:
    Ladder();

    void set(Stage stage, State state, std::string text, std::vector<Evidence> evidence = {});
    /// The first rung that was not reached, where that is because the walk's budget is used up.
    void tell_budget();
    /// As the claim has it; its findings are those of its stage.
    void set(const Claim& claim) { set(claim.stage, claim); }
    /// The same for a claim that is about another stage here.
    void set(Stage stage, const Claim& claim);
    /// Adds what a further loader on the way has to say about a stage that an earlier one has passed.
    void go_on(Stage stage, State state, const std::string& text, std::vector<Evidence> evidence = {});
    /// A break with its finding; the first one gives the symptom.
    void breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom);
    void breaks(Finding finding);
    void add_finding(Finding finding);
    /// More evidence for a rung, and words added to its text.
    void support(Stage stage, std::string_view words, Evidence evidence);

    [[nodiscard]] const StageState& at(Stage stage) const { return stages_[static_cast<std::size_t>(stage)]; }
    [[nodiscard]] std::optional<Stage> first_break() const;
    [[nodiscard]] Starts starts() const;
    [[nodiscard]] const std::string& symptom() const { return symptom_; }
    [[nodiscard]] const std::array<StageState, stage_count>& stages() const { return stages_; }
    [[nodiscard]] const std::vector<Finding>& findings() const { return findings_; }

private:
    StageState& rung(Stage stage) { return stages_[static_cast<std::size_t>(stage)]; }

    std::array<StageState, stage_count> stages_;
    std::vector<Finding> findings_;
    std::string symptom_;
    std::optional<Stage> symptom_stage_;
};

}  // namespace herberge::walk
