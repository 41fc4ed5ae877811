// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/boot_report.hpp>
#include <herberge/lines.hpp>
#include <herberge/sentences.hpp>

#include "report/excerpt.hpp"
#include "report/graph.hpp"
#include "report/html_style.hpp"
#include "report/markup.hpp"
#include "report/report_texts.hpp"

namespace herberge {

namespace {

using report::escaped;

constexpr std::size_t most_excerpts = 200;
constexpr report::Palette by_style{.paper = "var(--paper)",
                                   .box = "var(--box)",
                                   .ink = "var(--ink)",
                                   .plain = "var(--plain)",
                                   .good = "var(--good)",
                                   .bad = "var(--bad)"};

class Html {
public:
    explicit Html(const BootReport& report) : report_(report) {}

    std::string run() {
        begin();
        verdicts();
        int number = 0;
        for (const auto& system : report_.verdict.systems) one(system, ++number);
        starters();
        layout();
        menus();
        findings();
        origin();
        out_ += "</main>\n</body>\n</html>\n";
        return std::move(out_);
    }

private:
    /// One piece of markup; what is put into it is escaped.
    template <class... Text>
    void put(fmt::format_string<const Text&...> markup, const Text&... text) {
        out_ += fmt::format(markup, text...);
    }

    void begin() {
        const auto head = escaped(headline(report_.verdict));
        put("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
            "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
            "<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n<main>\n<header>\n<h1>{}</h1>\n",
            head, report::html_style, head);
        put("<p class=\"quiet\">{}; {}</p>\n</header>\n", escaped(report::machine_line(report_)),
            escaped(utc_text(report_.origin.made_at)));
    }

    void verdicts() {
        // Of one system, the headline and the section below say it.
        if (report_.verdict.systems.size() < 2) return;
        out_ += "<ul class=\"verdicts\">\n";
        int number = 0;
        for (const auto& system : report_.verdict.systems) {
            put("<li class=\"{}\"><a href=\"#system-{}\">{}</a> <strong>{}</strong>", starts_id(system.starts),
                ++number, escaped(system_title(system)), escaped(verdict_sentence(system)));
            if (const auto* rung = report::deciding(system)) put(" {}", escaped(rung->text));
            out_ += "</li>\n";
        }
        out_ += "</ul>\n";
    }

    void one(const SystemVerdict& system, int number) {
        put("<section>\n<h2 id=\"system-{}\">{} <span class=\"{}\">{}</span></h2>\n", number,
            escaped(system_title(system)), starts_id(system.starts), escaped(verdict_sentence(system)));
        facts(system);
        if (const auto* mending = report::mending_of(report_, system)) proposals(*mending);
        // What starts is told in short; the whole ladder is there for who wants it.
        const bool folded = system.starts == Starts::Yes;
        out_ += folded ? "<details><summary>Stage by stage</summary>\n" : "<h3>Stage by stage</h3>\n";
        out_ += "<ol class=\"ladder\">\n";
        for (const auto& rung : system.stages) ladder(rung);
        put("</ol>\n{}</section>\n", folded ? "</details>\n" : "");
    }

    void facts(const SystemVerdict& system) {
        out_ += "<dl class=\"facts\">\n";
        if (const auto* rung = report::deciding(system)) put("<dt>Why</dt><dd>{}</dd>\n", escaped(rung->text));
        if (!system.symptom.empty()) {
            std::string screen;
            for (const auto& line : lines_of(system.symptom)) screen += escaped(line) + "\n";
            put("<dt>On the screen</dt><dd><pre class=\"screen\">{}</pre></dd>\n", screen);
        }
        if (!system.entry.empty())
            put("<dt>Entry</dt><dd>“{}”, {}</dd>\n", escaped(system.entry), escaped(entry_sentence(system)));
        for (const auto& other : system.fallbacks)
            put("<dt>Instead</dt><dd>{}</dd>\n", escaped(fallback_sentence(other)));
        if (!system.route.empty()) {
            std::string way;
            for (const auto& step : system.route) way += (way.empty() ? "" : " → ") + escaped(step);
            put("<dt>Way</dt><dd>{}</dd>\n", way);
        }
        out_ += "</dl>\n";
    }

    void proposals(const Mending& mending) {
        out_ += "<h3>What would mend it</h3>\n";
        for (const auto& one : mending.proposals) {
            put("<div class=\"proposal\">\n<h4>{}</h4>\n<p class=\"quiet\">Proven on an overlay: {}.</p>\n",
                escaped(one.title), escaped(report::patch_size_sentence(one.patch)));
            if (one.steps.size() > 1) {
                out_ += "<ul>\n";
                for (const auto& step : one.steps) put("<li>{}</li>\n", escaped(step));
                out_ += "</ul>\n";
            }
            for (const auto& risk : one.risks) put("<p><strong>Mind:</strong> {}</p>\n", escaped(risk));
            for (const auto& turn : one.systems)
                if (turn.turn != Turn::Same)
                    put("<p class=\"{}\">{}: {}</p>\n",
                        turn.after && turn.after->starts == Starts::Yes ? "yes" : "quiet", escaped(turn.name),
                        escaped(turn_sentence(turn)));
            out_ += "</div>\n";
        }
        if (mending.proposals.empty())
            put("<p class=\"bring\">Nothing on this machine makes it start. What would have to be brought: {}.</p>\n",
                escaped(mending.bring));
    }

    void ladder(const StageState& rung) {
        put("<li class=\"{0}\"><p class=\"head\"><span class=\"stage\">{1}</span> <span class=\"state\">{2}</span></p>",
            state_id(rung.state), stage_id(rung.stage), report::state_words(rung.state));
        if (!rung.text.empty()) put("<p>{}</p>", escaped(rung.text));
        if (!rung.evidence.empty() && rung.state != State::NotReached) {
            const bool open = rung.state != State::Holds && rung.state != State::NotNeeded;
            if (!open)
                put("<details><summary>Evidence for {} ({})</summary>", stage_id(rung.stage), rung.evidence.size());
            for (const auto& one : rung.evidence) evidence(one);
            if (!open) out_ += "</details>";
        }
        out_ += "</li>\n";
    }

    void evidence(const Evidence& one) {
        put("<p class=\"where\">{}</p>", escaped(evidence_text(one)));
        if (excerpts_ == most_excerpts) return;
        const auto bytes = report::excerpt(report_.machine, one);
        if (!bytes) return;
        ++excerpts_;
        out_ += "<pre class=\"excerpt\" tabindex=\"0\">";
        for (const auto& line : bytes->lines) {
            const auto text = escaped(line.text);
            put("<i>{}</i>  {}\n", line.head, one.line && line.meant ? "<mark>" + text + "</mark>" : text);
        }
        if (!bytes->more.empty()) put("<i>{}</i>\n", bytes->more);
        out_ += "</pre>";
    }

    void starters() {
        if (report_.verdict.graph.empty()) return;
        out_ += "<section>\n<h2>Who starts whom</h2>\n<div class=\"scroll\" tabindex=\"0\">\n";
        out_ += report::draw_graph(report_.verdict, by_style);
        out_ += "</div>\n<details><summary>The same as a list</summary>\n<ul>\n";
        for (const auto& edge : report_.verdict.graph)
            put("<li>{} → {}{}{}</li>\n", escaped(edge.from), escaped(edge.to),
                edge.label.empty() ? std::string{} : fmt::format(" by “{}”", escaped(edge.label)),
                edge.broken       ? " (does not work)"
                : edge.unattended ? " (by itself)"
                                  : "");
        out_ += "</ul>\n</details>\n</section>\n";
    }

    void row(std::string_view cell, const std::vector<std::string>& cells) {
        out_ += "<tr>";
        for (const auto& text : cells) put("<{0}>{1}</{0}>", cell, escaped(text));
        out_ += "</tr>\n";
    }
    void table(const std::vector<std::string>& head, const std::vector<std::vector<std::string>>& rows) {
        out_ += "<div class=\"scroll\" tabindex=\"0\">\n<table>\n";
        row("th", head);
        for (const auto& one : rows) row("td", one);
        out_ += "</table>\n</div>\n";
    }

    void bar(const Disk& disk) {
        const auto all = std::max<double>(1, static_cast<double>(disk.source->size()));
        out_ += "<div class=\"bar\" aria-hidden=\"true\">";
        for (const auto& stretch : stretches(disk.table, disk.source->size())) {
            if (stretch.partition == 0) continue;
            const double from = 100.0 * static_cast<double>(stretch.first_lba) * disk.table.sector_size / all;
            const double part = 100.0 * static_cast<double>(stretch.sectors) * disk.table.sector_size / all;
            const auto* entry = disk.table.find(stretch.partition);
            put("<span class=\"{}{}\" style=\"left:{:.3f}%;width:{:.3f}%\">p{}<br>{}</span>",
                entry != nullptr && entry->active ? "active " : "", part < 7 ? "thin" : "wide", std::min(from, 100.0),
                std::min(part, 100.0), stretch.partition, size_text(stretch.sectors * disk.table.sector_size));
        }
        out_ += "</div>\n";
    }

    void layout() {
        out_ += "<section>\n<h2>Disks and partitions</h2>\n";
        for (const auto& disk : report_.machine.disks) {
            put("<h3>d{} {}</h3>\n<p class=\"quiet\">{}</p>\n", disk.number, escaped(disk.path),
                escaped(report::disk_sentence(disk)));
            if (!disk.table.partitions.empty()) bar(disk);
            if (const auto rows = report::partition_rows(disk); !rows.empty()) table(report::partition_head(), rows);
        }
        if (const auto rows = report::layered_rows(report_.machine); !rows.empty()) {
            out_ += "<h3>Volumes made of others</h3>\n";
            table(report::layered_head(), rows);
        }
        out_ += "</section>\n";
    }

    void menus() {
        const auto options = report::option_rows(report_);
        if (report_.verdict.menus.empty() && options.empty()) return;
        out_ += "<section>\n<h2>Menus</h2>\n";
        if (!options.empty()) {
            out_ += "<h3>Boot options of the firmware</h3>\n";
            table(report::option_head(), options);
        }
        for (const auto& menu : report_.verdict.menus) {
            put("<h3>{}</h3>\n<p class=\"where\">{}</p>\n", escaped(menu.title()), escaped(menu.place));
            table(report::entry_head(), report::entry_rows(menu));
        }
        out_ += "</section>\n";
    }

    void findings() {
        if (report_.verdict.findings.empty()) return;
        out_ += "<section>\n<h2>All findings</h2>\n";
        std::vector<std::vector<std::string>> rows;
        for (const auto& one : report_.verdict.findings)
            rows.push_back({std::string(severity_id(one.severity)), std::string(stage_id(one.stage)), one.text,
                            one.evidence.empty() ? std::string{} : evidence_text(one.evidence.front()),
                            std::string(code_id(one.code))});
        table({"Severity", "Stage", "What", "Where", "Code"}, rows);
        out_ += "</section>\n";
    }

    void origin() {
        const auto& from = report_.origin;
        out_ += "<section>\n<h2>What was looked at</h2>\n<dl class=\"facts\">\n";
        for (const auto& [name, value] : report::origin_facts(from))
            put("<dt>{}</dt><dd>{}</dd>\n", escaped(name), escaped(value));
        out_ += "</dl>\n";
        table(report::image_head(), report::image_rows(from));
        out_ += "<p class=\"quiet\">Nothing was written to an image.</p>\n</section>\n";
    }

    const BootReport& report_;
    std::size_t excerpts_ = 0;
    std::string out_;
};

}  // namespace

std::string report_html(const BootReport& report) { return Html(report).run(); }

}  // namespace herberge
