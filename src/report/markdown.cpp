// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/boot_report.hpp>
#include <herberge/lines.hpp>
#include <herberge/sentences.hpp>

#include "report/excerpt.hpp"
#include "report/report_texts.hpp"

namespace herberge {

namespace {

using report::Row;

/// Text within a paragraph, list or table cell: nothing in it is markup (CommonMark 2.4: any ASCII punctuation may be
/// escaped by a backslash).
std::string plain(std::string_view text) {
    std::string out;
    for (const char c : shown(text)) {
        if (std::string_view("\\`*_[]<>|~&").find(c) != std::string_view::npos) out += '\\';
        out += c;
    }
    return out;
}

/// A block in which everything stands as it is: its fence is longer than any run of backticks inside.
std::string fenced(const std::vector<std::string>& lines) {
    std::size_t longest = 2;
    for (const auto& line : lines) {
        std::size_t run = 0;
        for (const char c : line) longest = std::max(longest, run = c == '`' ? run + 1 : 0);
    }
    const std::string fence(longest + 1, '`');
    return fmt::format("{0}\n{1}{2}{0}\n", fence, fmt::join(lines, "\n"), lines.empty() ? "" : "\n");
}

class Markdown {
public:
    explicit Markdown(const BootReport& report) : report_(report) {}

    std::string run() {
        out_ += fmt::format("# {}\n\n{}\n\n", plain(headline(report_.verdict)), plain(report::machine_line(report_)));
        std::vector<Row> all;
        for (const auto& system : report_.verdict.systems)
            all.push_back({system_title(system), verdict_sentence(system)});
        if (!all.empty()) table({"System", "Verdict"}, all);
        for (const auto& system : report_.verdict.systems) one(system);
        menus();
        disks();
        findings();
        origin();
        return std::move(out_);
    }

private:
    void table(const Row& head, const std::vector<Row>& rows) {
        const auto row = [&](const Row& cells) {
            out_ += "|";
            for (const auto& cell : cells) out_ += fmt::format(" {} |", plain(cell));
            out_ += "\n";
        };
        row(head);
        out_ += "|";
        for (std::size_t i = 0; i < head.size(); ++i) out_ += "---|";
        out_ += "\n";
        for (const auto& each : rows) row(each);
        out_ += "\n";
    }

    void one(const SystemVerdict& system) {
        out_ += fmt::format("## {}: {}\n\n", plain(system_title(system)), plain(verdict_sentence(system)));
        if (const auto* rung = report::deciding(system)) {
            out_ += fmt::format("**Why:** {}\n\n", plain(rung->text));
            for (const auto& each : rung->evidence) evidence(each);
        }
        if (!system.symptom.empty()) {
            std::vector<std::string> screen;
            for (const auto& line : lines_of(system.symptom)) screen.push_back(shown(line));
            out_ += fmt::format("**On the screen:**\n\n{}\n", fenced(screen));
        }
        for (const auto& other : system.fallbacks)
            out_ += fmt::format("**Instead:** {}\n\n", plain(fallback_sentence(other)));
        if (const auto* mending = report::mending_of(report_, system)) proposals(*mending);
        std::vector<Row> rungs;
        for (const auto& rung : system.stages)
            rungs.push_back(
                {std::string(stage_id(rung.stage)), std::string(report::state_words(rung.state)), rung.text});
        table({"Stage", "State", "What was seen"}, rungs);
    }

    void evidence(const Evidence& one) {
        out_ += fmt::format("- {}\n", plain(evidence_text(one)));
        if (const auto read = report::excerpt(report_.machine, one)) {
            std::vector<std::string> lines;
            for (const auto& line : read->lines)
                lines.push_back(
                    fmt::format("{}{}  {}", one.line ? (line.meant ? "> " : "  ") : "", line.head, line.text));
            if (!read->more.empty()) lines.push_back(read->more);
            out_ += fmt::format("\n{}", fenced(lines));
        }
        out_ += "\n";
    }

    void proposals(const Mending& mending) {
        for (const auto& each : mending.proposals) {
            out_ += fmt::format("**What would mend it** (proven on an overlay; {}): {}\n\n",
                                plain(report::patch_size_sentence(each.patch)), plain(each.title));
            if (each.steps.size() > 1)
                for (const auto& step : each.steps) out_ += fmt::format("- {}\n", plain(step));
            for (const auto& risk : each.risks) out_ += fmt::format("- Mind: {}\n", plain(risk));
            out_ += "\n";
        }
        if (mending.proposals.empty())
            out_ += fmt::format("**What would have to be brought:** {}\n\n", plain(mending.bring));
    }

    void disks() {
        for (const auto& disk : report_.machine.disks) {
            out_ +=
                fmt::format("## d{} {}\n\n{}\n\n", disk.number, plain(disk.path), plain(report::disk_sentence(disk)));
            if (const auto rows = report::partition_rows(disk); !rows.empty()) table(report::partition_head(), rows);
        }
        if (const auto rows = report::layered_rows(report_.machine); !rows.empty()) {
            out_ += "## Volumes made of others\n\n";
            table(report::layered_head(), rows);
        }
    }

    void menus() {
        const auto options = report::option_rows(report_);
        if (report_.verdict.menus.empty() && options.empty()) return;
        out_ += "## Menus\n\n";
        if (!options.empty()) {
            out_ += "Boot options of the firmware:\n\n";
            table(report::option_head(), options);
        }
        for (const auto& menu : report_.verdict.menus) {
            out_ += fmt::format("{} at {}:\n\n", plain(menu.title()), plain(menu.place));
            table(report::entry_head(), report::entry_rows(menu));
        }
    }

    void findings() {
        std::vector<Row> rows;
        for (const auto& one : report_.verdict.findings)
            rows.push_back({std::string(severity_id(one.severity)), std::string(stage_id(one.stage)), one.text,
                            std::string(code_id(one.code))});
        if (rows.empty()) return;
        out_ += "## All findings\n\n";
        table({"Severity", "Stage", "What", "Code"}, rows);
    }

    void origin() {
        out_ += "## What was looked at\n\n";
        for (const auto& [name, value] : report::origin_facts(report_.origin))
            out_ += fmt::format("- {}: {}\n", name, plain(value));
        out_ += "\n";
        table(report::image_head(), report::image_rows(report_.origin));
    }

    const BootReport& report_;
    std::string out_;
};

}  // namespace

std::string report_markdown(const BootReport& report) { return Markdown(report).run(); }

}  // namespace herberge
