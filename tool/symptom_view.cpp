// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "page.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

constexpr std::size_t most_causes = 6;

/// A screen of several lines in one.
std::string in_one_line(std::string_view screen) {
    std::string out;
    for (const auto& part : lines_of(screen)) out += (out.empty() ? "" : " / ") + part;
    return out;
}

void numbers(Page& page, const SymptomReading& reading) {
    if (reading.numbers.empty()) return;
    page.line(page.terminal.ink(Ink::Bold, "Numbers in it"));
    for (const auto& number : reading.numbers) {
        std::string text = fmt::format("{}: {}", number.written, number_kind_name(number.kind));
        if (number.known == nullptr) text += ", which is not in the table";
        else
            text += fmt::format("{}{}. {}", number.known->name.empty() ? "" : " ", number.known->name,
                                number.known->meaning);
        page.indented(2, text);
    }
    page.line();
}

void milestones(Page& page, const SymptomReading& reading) {
    if (reading.milestones.empty()) return;
    page.line(page.terminal.ink(Ink::Bold, "How far the machine came"));
    const std::size_t skip = reading.milestones.size() > 4 ? reading.milestones.size() - 4 : 0;
    for (std::size_t i = skip; i < reading.milestones.size(); ++i) {
        const auto& passed = reading.milestones[i];
        page.indented(2, fmt::format("“{}”: {}", passed.line.substr(0, 60), passed.meaning));
    }
    page.line();
}

/// What the cause before says as well is not said again.
void cause(Page& page, const Cause& one, const Cause* before) {
    const auto& row = finding_codes()[static_cast<std::size_t>(one.code)];
    const Ink ink = one.borne == Borne::Real ? Ink::Bad : one.borne == Borne::Excluded ? Ink::Dim : Ink::Plain;
    page.indented(4, fmt::format("{}  {}", row.id, row.meaning), ink);
    if (before == nullptr || before->screen != one.screen)
        page.indented(8, "screen: " + in_one_line(one.screen), Ink::Dim);
    const bool said = before != nullptr && before->borne == one.borne && before->borne_text == one.borne_text;
    if (one.borne == Borne::Real) page.indented(8, "this image has it: " + one.borne_text, Ink::Bad);
    if (one.borne == Borne::Possible && !said) page.indented(8, "on this image: " + one.borne_text);
    if (one.borne == Borne::Excluded && !said) page.indented(8, "not on this image: " + one.borne_text, Ink::Good);
    if (!one.apart.empty()) page.indented(8, "may also show: " + in_one_line(one.apart.front()), Ink::Dim);
}

void answer(Page& page, const StageAnswer& one, std::size_t number) {
    page.line();
    page.line(fmt::format("{:>2}  {}", number, page.terminal.ink(Ink::Bold, stage_id(one.stage))));
    if (!one.why.empty()) page.indented(4, one.why);
    for (std::size_t i = 0; i < std::min(most_causes, one.causes.size()); ++i)
        cause(page, one.causes[i], i == 0 ? nullptr : &one.causes[i - 1]);
    if (one.causes.size() > most_causes)
        page.indented(4, fmt::format("and {} more (--format json has all)", one.causes.size() - most_causes), Ink::Dim);
}

/// What is far less likely, in a line.
void in_brief(Page& page, const StageAnswer& one, std::size_t number) {
    constexpr std::size_t most = 3;
    std::string text = fmt::format("{:>2}  {}", number, stage_id(one.stage));
    for (std::size_t i = 0; i < std::min(most, one.causes.size()); ++i)
        text += (i == 0 ? ": " : ", ") + std::string(code_id(one.causes[i].code));
    if (one.causes.size() > most) text += fmt::format(" and {} more", one.causes.size() - most);
    page.line(page.terminal.ink(Ink::Dim, text));
}

/// How many answers are told in full: those whose fault the image has; without one, the first three.
std::size_t whole_answers(const SymptomReading& reading) {
    std::size_t real = 0;
    for (const auto& one : reading.answers)
        if (!one.causes.empty() && one.causes.front().borne == Borne::Real) ++real;
    return real > 0 ? real : 3;
}

}  // namespace

std::string symptom_text(const SymptomReading& reading, const Terminal& terminal) {
    Page page{terminal, {}};
    if (reading.answers.empty()) {
        page.line(terminal.ink(Ink::Warn, reading.numbers.empty()
                                              ? "No screen that is known here fits this text."
                                              : "No screen that is known here fits this text; its numbers are known."));
        if (!reading.nearest.empty()) page.line("Nearest to it are:");
        for (const auto& near : reading.nearest) page.indented(2, in_one_line(near));
        page.line();
        numbers(page, reading);
        return std::move(page.out);
    }
    const auto& first = reading.answers.front();
    const bool real = !first.causes.empty() && first.causes.front().borne == Borne::Real;
    page.line(terminal.ink(
        Ink::Bold, fmt::format("{} at {}, which completes when {}", real ? "It stops" : "Most likely it stops",
                               stage_id(reading.answers.front().stage), stage_meaning(reading.answers.front().stage))));
    page.line();
    numbers(page, reading);
    milestones(page, reading);
    page.line(terminal.ink(Ink::Bold, "What shows such a screen, likeliest first"));
    const std::size_t whole = whole_answers(reading);
    for (std::size_t i = 0; i < std::min(whole, reading.answers.size()); ++i) answer(page, reading.answers[i], i + 1);
    if (whole < reading.answers.size()) page.line();
    for (std::size_t i = whole; i < reading.answers.size(); ++i) in_brief(page, reading.answers[i], i + 1);
    return std::move(page.out);
}

}  // namespace tool
