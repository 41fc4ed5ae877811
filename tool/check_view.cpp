// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include "views.hpp"

namespace tool {

using herberge::Severity;
using herberge::Starts;
using herberge::State;

namespace {

constexpr std::size_t stage_width = 17;
constexpr std::size_t state_width = 13;

struct Look {
    Ink ink;
    std::string_view mark;
    std::string_view word;
};

Look look_of(State state) {
    switch (state) {
        case State::Holds: return {Ink::Good, "•", "holds"};
        case State::Breaks: return {Ink::Bad, "✗", "BREAKS"};
        case State::Doubtful: return {Ink::Warn, "~", "doubtful"};
        case State::Unknown: return {Ink::Warn, "?", "unknown"};
        case State::NotReached: return {Ink::Dim, " ", "not reached"};
        case State::NotNeeded: return {Ink::Dim, "-", "not needed"};
    }
    return {Ink::Plain, " ", ""};
}

class CheckText {
public:
    CheckText(const herberge::Machine& machine, const herberge::Verdict& verdict, const Terminal& terminal,
              bool all_evidence)
        : machine_(machine), verdict_(verdict), terminal_(terminal), all_evidence_(all_evidence) {}

    std::string run() {
        headline();
        for (const auto& system : verdict_.systems) one(system);
        notes();
        return std::move(out_);
    }

private:
    void line(const std::string& text = {}) { out_ += text + "\n"; }

    void indented(std::size_t indent, std::string_view text, Ink ink = Ink::Plain) {
        const std::size_t room = terminal_.width() > indent + 20 ? terminal_.width() - indent : 40;
        for (const auto& part : wrap(herberge::shown(text), room))
            line(std::string(indent, ' ') + terminal_.ink(ink, part));
    }

    void headline() {
        std::string disks;
        for (const auto& disk : machine_.disks)
            disks += fmt::format("{}d{} {} ({})", disks.empty() ? "" : ", ", disk.number,
                                 herberge::printable(disk.path), herberge::size_text(disk.source->size()));
        line(terminal_.ink(Ink::Dim, fmt::format("{}, started by {}", disks, herberge::firmware_words(verdict_))));
        line();
        const std::size_t width = longest_name();
        for (const auto& system : verdict_.systems) {
            const std::string place = system.place.value_or("—");
            const Ink ink = system.starts == Starts::Yes ? Ink::Good : system.stops_at ? Ink::Bad : Ink::Warn;
            line(fmt::format("{}  {}  {}", terminal_.ink(Ink::Bold, pad(place, 5)),
                             pad(herberge::printable(system.name), width),
                             terminal_.ink(ink, verdict_sentence(system))));
        }
    }

    [[nodiscard]] std::size_t longest_name() const {
        std::size_t width = 0;
        for (const auto& system : verdict_.systems) width = std::max(width, columns(herberge::printable(system.name)));
        return width;
    }

    void one(const herberge::SystemVerdict& system) {
        line();
        const std::string title = fmt::format("{}  {}", system.place.value_or("—"), herberge::printable(system.name));
        line(terminal_.ink(Ink::Bold, title));
        if (system.stops_at) {
            const auto& rung = system.at(*system.stops_at);
            section("why", rung.text, Ink::Bad);
            for (const auto& evidence : rung.evidence) indented(10, evidence_text(evidence), Ink::Dim);
        }
        if (!system.symptom.empty()) {
            bool first = true;
            for (const auto& shown : lines_of(system.symptom)) {
                out_ += first ? "  screen  " : "          ";
                first = false;
                line(terminal_.ink(Ink::Blue, herberge::printable(shown)));
            }
        }
        if (!system.entry.empty()) section("entry", fmt::format("“{}”, {}", system.entry, entry_sentence(system)));
        for (const auto& fallback : system.fallbacks) section("instead", fallback_sentence(fallback));
        line();
        for (const auto& rung : system.stages) ladder(rung);
    }

    void section(std::string_view name, const std::string& text, Ink ink = Ink::Plain) {
        const auto parts = wrap(herberge::shown(text), terminal_.width() > 40 ? terminal_.width() - 10 : 40);
        for (std::size_t i = 0; i < parts.size(); ++i)
            line((i == 0 ? "  " + pad(std::string(name), 8) : std::string(10, ' ')) + terminal_.ink(ink, parts[i]));
    }

    void ladder(const herberge::StageState& rung) {
        const Look look = look_of(rung.state);
        const std::size_t indent = 4 + stage_width + state_width;
        const std::string head =
            fmt::format("  {} {}{}", terminal_.ink(look.ink, look.mark),
                        terminal_.ink(rung.state == State::NotReached ? Ink::Dim : Ink::Plain,
                                      pad(std::string(herberge::stage_id(rung.stage)), stage_width)),
                        terminal_.ink(look.ink, pad(std::string(look.word), state_width)));
        const auto parts =
            wrap(herberge::shown(rung.text), terminal_.width() > indent + 20 ? terminal_.width() - indent : 40);
        for (std::size_t i = 0; i < parts.size(); ++i) {
            std::string whole = (i == 0 ? head : std::string(indent, ' ')) +
                                terminal_.ink(rung.state == State::NotNeeded ? Ink::Dim : Ink::Plain, parts[i]);
            if (!terminal_.colour()) whole.erase(whole.find_last_not_of(' ') + 1);
            line(whole);
        }
        const bool show = all_evidence_ || rung.state == State::Doubtful || rung.state == State::Unknown;
        if (show && rung.state != State::NotReached)
            for (const auto& evidence : rung.evidence) indented(indent, evidence_text(evidence), Ink::Dim);
    }

    void notes() {
        std::vector<const herberge::Finding*> rest;
        for (const auto& finding : verdict_.findings)
            if (finding.severity != Severity::Breaks) rest.push_back(&finding);
        if (rest.empty()) return;
        line();
        line(terminal_.ink(Ink::Bold, "Also found, stopping nothing by itself"));
        for (const auto* finding : rest) {
            const Ink ink = finding->severity == Severity::Risk ? Ink::Warn : Ink::Dim;
            const auto parts =
                wrap(herberge::shown(finding->text), terminal_.width() > 40 ? terminal_.width() - 10 : 40);
            for (std::size_t i = 0; i < parts.size(); ++i)
                line((i == 0 ? "  " + terminal_.ink(ink, pad(std::string(herberge::severity_id(finding->severity)), 8))
                             : std::string(10, ' ')) +
                     parts[i]);
            if (!finding->evidence.empty())
                indented(10, fmt::format("{} ({})", evidence_text(finding->evidence.front()), code_id(finding->code)),
                         Ink::Dim);
        }
    }

    const herberge::Machine& machine_;
    const herberge::Verdict& verdict_;
    const Terminal& terminal_;
    bool all_evidence_;
    std::string out_;
};

}  // namespace

std::string check_text(const herberge::Machine& machine, const herberge::Verdict& verdict, const Terminal& terminal,
                       bool all_evidence) {
    return CheckText(machine, verdict, terminal, all_evidence).run();
}

}  // namespace tool
