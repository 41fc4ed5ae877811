// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <initializer_list>

#include <herberge/symptom.hpp>

#include "remedy/seen_numbers.hpp"
#include "remedy/words.hpp"

namespace herberge {

namespace {

using remedy::fit_of;
using remedy::plain_line;
using remedy::words_of;

constexpr std::size_t most_text = 64U << 10U;
constexpr std::size_t most_lines = 1000;
/// Below this nothing is an answer.
constexpr double least_fit = 0.5;
/// What a milestone leaves by itself to the first, second and third stage behind it.
constexpr std::array<double, 3> left_over = {0.6, 0.5, 0.4};

// --- the tables, as they are compared --------------------------------------------------------------------------------

struct ScreenLine {
    std::vector<std::string> words;
};
struct Screen {
    Code code;
    Stage stage;
    std::string_view general;
    bool silence = false;  ///< a remark that nothing is to be seen
    std::vector<ScreenLine> lines;
};
struct Mark {
    std::string_view text;
    Stage through;
    std::vector<Stage> suspects;
    std::string_view meaning;
};

bool is_remark(std::string_view general) { return general.starts_with('('); }

struct Tables {
    std::vector<Screen> screens;
    remedy::WordWeights weights;
    std::vector<Mark> marks;

    Tables() {
        for (const auto& row : finding_codes())
            for (const auto general : screens_of(row.code)) add(row, general);
        using enum Stage;
#define HERBERGE_LIST(...) \
    { __VA_ARGS__ }
#define HERBERGE_MILESTONE(text, through, suspects, meaning) \
    marks.push_back({text, through, HERBERGE_LIST suspects, meaning});
#include "remedy/milestones.def"
#undef HERBERGE_MILESTONE
#undef HERBERGE_LIST
    }

private:
    void add(const FindingCode& row, std::string_view general) {
        Screen screen{
            row.code, row.stage, general, general.starts_with("(nothing") || general.starts_with("nothing"), {}};
        if (!is_remark(general))
            for (std::string_view rest = general; !rest.empty();) {
                const auto end = std::min(rest.find('\n'), rest.size());
                if (auto words = words_of(plain_line(rest.substr(0, end))); !words.empty()) {
                    const bool known = std::ranges::any_of(screens, [&](const Screen& other) {
                        return std::ranges::any_of(other.lines,
                                                   [&](const ScreenLine& line) { return line.words == words; });
                    });
                    if (!known) weights.count(words);
                    screen.lines.push_back({std::move(words)});
                }
                rest.remove_prefix(std::min(end + 1, rest.size()));
            }
        if (!screen.lines.empty() || is_remark(general)) screens.push_back(std::move(screen));
    }
};
const Tables& tables() {
    static const Tables all;
    return all;
}

// --- the text --------------------------------------------------------------------------------------------------------

struct TextLine {
    std::string written;
    std::string plain;
    std::vector<std::string> words;
};

std::vector<TextLine> lines_of(std::string_view text) {
    if (text.size() > most_text) text.remove_prefix(text.size() - most_text);
    std::vector<TextLine> out;
    while (!text.empty()) {
        const auto end = std::min(text.find_first_of("\r\n"), text.size());
        if (auto plain = plain_line(text.substr(0, end)); !plain.empty()) {
            auto words = words_of(plain);
            out.push_back({std::string(text.substr(0, end)), std::move(plain), std::move(words)});
        }
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    if (out.size() > most_lines) out.erase(out.begin(), out.end() - most_lines);
    return out;
}

bool stands_in(std::string_view mark, std::string_view line) {
    const bool from_start = mark.starts_with('^');
    const bool to_end = mark.ends_with('$');
    if (from_start) mark.remove_prefix(1);
    if (to_end) mark.remove_suffix(1);
    if (from_start && to_end) return line == mark;
    return from_start ? line.starts_with(mark) : line.find(mark) != line.npos;
}

const Mark* mark_of(const TextLine& line) {
    const Mark* best = nullptr;
    for (const auto& mark : tables().marks)
        if (stands_in(mark.text, line.plain) && (best == nullptr || mark.text.size() > best->text.size())) best = &mark;
    return best;
}

/// Somebody tells in words that there is nothing to see.
bool tells_of_silence(const TextLine& line) {
    static constexpr std::string_view tellings[] = {
        "blinking cursor", "cursor blinks",   "flashing cursor", "black screen",    "blank screen",
        "screen stays",    "nothing happens", "no output",       "screen is black", "nothing at all"};
    return line.plain == "_" || line.plain == "nothing" ||
           std::ranges::any_of(tellings, [&](auto words) { return line.plain.find(words) != std::string::npos; });
}

/// What the milestones prove: for each line, the last stage that completes for a machine that shows the whole text.
std::vector<std::optional<Stage>> proven_by(const std::vector<const Mark*>& marks) {
    std::vector<std::optional<Stage>> out(marks.size());
    std::optional<Stage> so_far;
    for (std::size_t i = 0; i < marks.size(); ++i) {
        if (marks[i] != nullptr)
            // The firmware is at work again: what went before it ended.
            so_far = marks[i]->through == Stage::Firmware || !so_far ? marks[i]->through
                                                                     : std::max(*so_far, marks[i]->through);
        out[i] = so_far;
    }
    std::optional<Stage> later;
    for (std::size_t i = marks.size(); i-- > 0;) {
        if (later && (!out[i] || *out[i] < *later)) out[i] = later;
        if (marks[i] != nullptr && (!later || *later < marks[i]->through)) later = marks[i]->through;
    }
    return out;
}

/// Firmware is behind a machine as soon as anything runs; it is a milestone's stage also where it found nothing. The
/// table is read again by each program until a menu is there.
bool is_behind(Stage stage, const std::optional<Stage>& proven) {
    if (!proven || *proven == Stage::Firmware) return false;
    return stage == Stage::PartitionTable ? *proven >= Stage::Configuration : stage <= *proven;
}

// --- answers ---------------------------------------------------------------------------------------------------------

struct Fit {
    double value = 0;
    std::size_t line = 0;
};
/// A line that is known for a milestone is taken for an error only where it fits as well as this.
constexpr double milestone_fit = 0.85;

Fit best_fit(const Screen& screen, const std::vector<TextLine>& lines, const std::vector<const Mark*>& marks,
             double& all) {
    Fit best;
    all = 0;
    for (const auto& wanted : screen.lines) {
        Fit here;
        for (std::size_t i = 0; i < lines.size(); ++i)
            if (const double fit = fit_of(lines[i].words, wanted.words, tables().weights);
                fit >= here.value && (marks[i] == nullptr || fit >= milestone_fit))
                here = {fit, i};
        all += here.value / static_cast<double>(screen.lines.size());
        // Rather by an error than by the prompt behind it.
        const auto rank = [&](const Fit& fit) { return fit.value + (marks[fit.line] == nullptr ? 0.3 : 0); };
        if (rank(here) > rank(best)) best = here;
    }
    return best;
}

struct Observation {
    std::vector<TextLine> lines;
    std::vector<const Mark*> marks;
    std::vector<std::optional<Stage>> proven;
    std::vector<Cause> causes;
    std::vector<std::pair<double, std::string_view>> near;

    explicit Observation(std::string_view text) : lines(lines_of(text)) {
        for (const auto& line : lines) marks.push_back(mark_of(line));
        proven = proven_by(marks);
    }

    void ask(const Screen& screen) {
        if (screen.lines.empty()) return;
        double all = 0;
        const Fit best = best_fit(screen, lines, marks, all);
        // The whole screen counts a little more than its best line.
        double fit = 0.9 * best.value + 0.1 * all;
        if (fit > 0.2) near.emplace_back(fit, screen.general);
        // A line after which the machine went on is not where it stopped.
        const bool went_on = marks[best.line] != nullptr && best.line + 1 < lines.size();
        if (went_on || is_behind(screen.stage, proven.empty() ? std::nullopt : proven[best.line])) fit *= 0.5;
        if (fit < least_fit) return;
        // A prompt tells less than the error before it.
        add(screen, marks[best.line] != nullptr ? fit - 0.1 : fit, lines[best.line].written);
    }

    /// Of several screens of one code the one that fits best stays.
    void add(const Screen& screen, double fit, std::string line) {
        const auto found = std::ranges::find(causes, screen.code, &Cause::code);
        if (found != causes.end()) {
            if (found->fit >= fit) return;
            causes.erase(found);
        }
        Cause cause;
        cause.code = screen.code;
        cause.stage = screen.stage;
        cause.fit = fit;
        cause.screen = screen.general;
        cause.line = std::move(line);
        causes.push_back(std::move(cause));
    }

    /// A screen on which nothing more appears: what shows nothing, in the stages that are left.
    void ask_silence(const std::vector<Stage>& suspects) {
        for (const auto& screen : tables().screens) {
            const auto at = std::ranges::find(suspects, screen.stage);
            if (!screen.silence || at == suspects.end()) continue;
            add(screen, left_over[std::min<std::size_t>(static_cast<std::size_t>(at - suspects.begin()), 2)],
                lines.back().written);
        }
    }
};

/// By which other screens each cause differs from those that share this one.
void tell_apart(std::vector<Cause>& causes) {
    for (auto& cause : causes) {
        for (const auto screen : screens_of(cause.code)) {
            if (screen == cause.screen) continue;
            const bool shared = std::ranges::any_of(causes, [&](const Cause& other) {
                return other.code != cause.code && std::ranges::count(screens_of(other.code), screen) != 0;
            });
            if (!shared) cause.apart.emplace_back(screen);
        }
    }
}

void sort_answers(std::vector<StageAnswer>& answers) {
    for (auto& answer : answers)
        std::ranges::stable_sort(answer.causes, [](const Cause& a, const Cause& b) { return a.fit > b.fit; });
    std::ranges::stable_sort(answers, [](const StageAnswer& a, const StageAnswer& b) { return a.fit > b.fit; });
}

StageAnswer& answer_of(std::vector<StageAnswer>& answers, Stage stage) {
    const auto found = std::ranges::find(answers, stage, &StageAnswer::stage);
    if (found != answers.end()) return *found;
    answers.push_back({stage, 0, {}, {}});
    return answers.back();
}

}  // namespace

std::string_view borne_id(Borne borne) {
    switch (borne) {
        case Borne::Unasked: return "unasked";
        case Borne::Real: return "real";
        case Borne::Possible: return "possible";
        case Borne::Excluded: return "excluded";
    }
    return {};
}

SymptomReading read_symptom(std::string_view text) {
    SymptomReading out;
    Observation seen(text);
    if (seen.lines.empty()) return out;
    const Mark* last = nullptr;
    for (std::size_t i = 0; i < seen.lines.size(); ++i) {
        remedy::find_numbers(seen.lines[i].plain, seen.lines[i].words, out.numbers);
        if (const Mark* mark = seen.marks[i]) {
            out.milestones.push_back({seen.lines[i].written, mark->through, std::string(mark->meaning)});
            last = mark;
        }
    }
    for (const auto& screen : tables().screens) seen.ask(screen);
    const bool silent = std::ranges::any_of(seen.lines, tells_of_silence);
    // What the firmware shows before it starts something, and then no more.
    const bool firmware_alone = last != nullptr && seen.marks.back() == last && last->through == Stage::Firmware &&
                                !last->text.starts_with('^');
    if (last != nullptr && (silent || firmware_alone)) seen.ask_silence(last->suspects);
    else if (silent) seen.ask_silence({Stage::BootCode, Stage::BootSector, Stage::Kernel});
    tell_apart(seen.causes);
    for (auto& cause : seen.causes) {
        auto& answer = answer_of(out.answers, cause.stage);
        answer.fit = std::max(answer.fit, cause.fit);
        answer.causes.push_back(std::move(cause));
    }
    if (last != nullptr)
        for (std::size_t i = 0; i < last->suspects.size(); ++i) {
            auto& answer = answer_of(out.answers, last->suspects[i]);
            // What ends where the milestones end is likelier than what resembles it as much.
            answer.fit = std::max(answer.fit + (i == 0 ? 0.1 : 0.05), left_over[std::min<std::size_t>(i, 2)]);
            answer.why = last->meaning;
        }
    sort_answers(out.answers);
    if (out.answers.empty()) {
        std::ranges::stable_sort(seen.near, [](const auto& a, const auto& b) { return a.first > b.first; });
        for (const auto& [fit, screen] : seen.near)
            if (out.nearest.size() < 3 && std::ranges::find(out.nearest, screen) == out.nearest.end())
                out.nearest.emplace_back(screen);
    }
    return out;
}

void weigh_by_image(SymptomReading& reading, const Verdict& verdict) {
    const auto judge = [&](Cause& cause) {
        for (const auto& system : verdict.systems) {
            const auto& rung = system.at(cause.stage);
            if (rung.state != State::Breaks || std::ranges::find(rung.findings, cause.code) == rung.findings.end())
                continue;
            cause.borne = Borne::Real;
            cause.borne_text = fmt::format(
                "{}: {}", system.place ? fmt::format("{} ({})", system.name, *system.place) : system.name, rung.text);
            return;
        }
        if (const auto found = std::ranges::find(verdict.findings, cause.code, &Finding::code);
            found != verdict.findings.end()) {
            cause.borne = Borne::Real;
            cause.borne_text = found->text;
            return;
        }
        const bool holds = !verdict.systems.empty() && std::ranges::all_of(verdict.systems, [&](const auto& system) {
            const auto state = system.at(cause.stage).state;
            return state == State::Holds || state == State::NotNeeded;
        });
        cause.borne = holds ? Borne::Excluded : Borne::Possible;
        cause.borne_text = holds ? "that stage holds for every system on the image"
                                 : "nothing on the image shows it, and that stage was not reached or not told";
        // A stage that breaks for another reason breaks for that one.
        for (const auto& system : verdict.systems)
            if (const auto& rung = system.at(cause.stage); !holds && rung.state == State::Breaks)
                cause.borne_text = fmt::format("that stage breaks for another reason: {}", rung.text);
    };
    const auto rank = [](const Cause& cause) {
        return cause.borne == Borne::Real ? 0 : cause.borne == Borne::Possible ? 1 : 2;
    };
    for (auto& answer : reading.answers) {
        for (auto& cause : answer.causes) judge(cause);
        std::ranges::stable_sort(answer.causes, {}, rank);
    }
    const auto best = [&](const StageAnswer& answer) {
        int out = answer.causes.empty() ? 1 : 2;
        for (const auto& cause : answer.causes) out = std::min(out, rank(cause));
        const bool stops = std::ranges::any_of(
            verdict.systems, [&](const SystemVerdict& system) { return system.stops_at == answer.stage; });
        return out == 0 ? 0 : stops ? 1 : out + 1;
    };
    std::ranges::stable_sort(reading.answers, {}, best);
}

}  // namespace herberge
