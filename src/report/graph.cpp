// SPDX-License-Identifier: MIT
// Who starts whom, as DOT and as SVG.
#include <fmt/format.h>
#include <algorithm>
#include <map>

#include <herberge/report.hpp>

#include "report/graph.hpp"
#include "report/markup.hpp"

namespace herberge {

namespace {

std::string escape_dot(std::string_view text) {
    std::string out;
    for (const char c : printable(text)) {
        if (c == '"' || c == '\\') out += '\\';
        out += c;
    }
    return out;
}

/// Cuts at a code point's start.
std::string shorten(std::string_view text, std::size_t most) {
    if (text.size() <= most) return std::string(text);
    while (most > 0 && (static_cast<unsigned char>(text[most]) & 0xC0U) == 0x80U) --most;
    return std::string(text.substr(0, most)) + "…";
}

struct Node {
    std::string name;
    std::string through;  ///< a first or boot sector folded into the loader it starts
    std::size_t column = 0;
    std::size_t row = 0;
    bool system = false;
    Starts starts = Starts::Unknown;
    bool reached = false;
};

struct Drawing {
    std::vector<Node> nodes;
    std::vector<StartEdge> edges;
    std::vector<std::pair<std::size_t, std::size_t>> ends;  ///< of each edge
    std::size_t columns = 1;
    std::size_t rows = 1;
};

std::string node_of(const SystemVerdict& system) {
    return system.place ? fmt::format("{} ({})", system.name, *system.place) : system.name;
}

/// A first or boot sector whose code does one thing only, starting a loader, becomes a line of that loader's box: the
/// drawing has half as many columns. Gives the sector that each loader is started through.
std::map<std::string, std::string> fold_sectors(std::vector<StartEdge>& edges) {
    std::map<std::string, std::size_t> leaving;
    std::map<std::string, std::size_t> entering;
    for (const auto& edge : edges) {
        ++leaving[edge.from];
        ++entering[edge.to];
    }
    std::map<std::string, std::string> through;
    for (std::size_t i = 0; i < edges.size();) {
        const auto edge = edges[i];
        if (!edge.from_sector || edge.to_sector || !edge.label.empty() || edge.broken || leaving[edge.from] != 1 ||
            entering[edge.to] != 1) {
            ++i;
            continue;
        }
        edges.erase(edges.begin() + static_cast<std::ptrdiff_t>(i));
        through[edge.to] = edge.from;
        for (auto& other : edges)
            if (other.to == edge.from) {
                other.to = edge.to;
                other.to_sector = edge.to_sector;
            }
    }
    return through;
}

/// Columns by the longest way from the firmware; a circle stops counting at the number of nodes.
Drawing arrange(const Verdict& verdict) {
    Drawing out;
    out.edges = verdict.graph;
    const auto through = fold_sectors(out.edges);
    std::map<std::string, std::size_t> index;
    auto add = [&](const std::string& name) {
        const auto [found, fresh] = index.emplace(name, out.nodes.size());
        if (fresh) {
            out.nodes.emplace_back();
            out.nodes.back().name = name;
            if (const auto sector = through.find(name); sector != through.end())
                out.nodes.back().through = sector->second;
        }
        return found->second;
    };
    add("firmware");
    for (const auto& edge : out.edges) out.ends.emplace_back(add(edge.from), add(edge.to));
    for (const auto& system : verdict.systems) {
        auto& node = out.nodes[add(node_of(system))];
        node.system = true;
        node.starts = system.starts;
    }
    for (std::size_t round = 0; round < out.nodes.size(); ++round)
        for (const auto& [from, to] : out.ends)
            if (out.nodes[to].column < out.nodes[from].column + 1 && out.nodes[from].column + 1 < out.nodes.size()) {
                // An edge that leads back must not push its target to the right for ever.
                if (round + 1 == out.nodes.size()) continue;
                if (out.nodes[from].column + 1 <= 8) out.nodes[to].column = out.nodes[from].column + 1;
            }
    std::size_t last = 0;
    for (const auto& node : out.nodes) last = std::max(last, node.column);
    for (const auto& [from, to] : out.ends) out.nodes[to].reached = true;
    // What nothing leads to stands at the right, below everything.
    for (auto& node : out.nodes)
        if (node.system && !node.reached) node.column = last;
    std::map<std::size_t, std::size_t> filled;
    for (auto& node : out.nodes) {
        node.row = filled[node.column]++;
        out.rows = std::max(out.rows, node.row + 1);
    }
    out.columns = last + 1;
    return out;
}

constexpr std::size_t node_width = 250;
constexpr std::size_t node_height = 66;
constexpr std::size_t column_step = 365;
constexpr std::size_t row_step = 104;
constexpr std::size_t margin = 24;
constexpr report::Palette on_white;

}  // namespace

std::string graph_dot(const Verdict& verdict) {
    // The source form keeps every step, folded sectors too.
    std::vector<std::string> names{"firmware"};
    auto add = [&](const std::string& name) {
        if (std::ranges::find(names, name) == names.end()) names.push_back(name);
    };
    for (const auto& edge : verdict.graph) {
        add(edge.from);
        add(edge.to);
    }
    for (const auto& system : verdict.systems) add(node_of(system));
    std::string out =
        "digraph boot {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", "
        "fontsize=10];\n";
    for (const auto& name : names) {
        std::string extra;
        const auto system = std::ranges::find(verdict.systems, name, node_of);
        if (system != verdict.systems.end())
            extra = fmt::format(", peripheries=2, color=\"{}\"", system->starts == Starts::Yes  ? on_white.good
                                                                 : system->starts == Starts::No ? on_white.bad
                                                                                                : on_white.plain);
        out += fmt::format("  \"{0}\" [label=\"{0}\"{1}];\n", escape_dot(name), extra);
    }
    for (const auto& edge : verdict.graph)
        out += fmt::format("  \"{}\" -> \"{}\" [label=\"{}\"{}{}];\n", escape_dot(edge.from), escape_dot(edge.to),
                           escape_dot(edge.label), edge.unattended ? ", penwidth=2" : "",
                           edge.broken ? fmt::format(", style=dashed, color=\"{}\"", on_white.bad) : "");
    return out + "}\n";
}

std::string graph_svg(const Verdict& verdict) { return report::draw_graph(verdict, on_white); }

std::string report::draw_graph(const Verdict& verdict, const Palette& palette) {
    const auto drawing = arrange(verdict);
    const std::size_t width = 2 * margin + (drawing.columns - 1) * column_step + node_width;
    const std::size_t height = 2 * margin + (drawing.rows - 1) * row_step + node_height + 28;
    std::string out = fmt::format(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} {1}\" "
        "font-family=\"DejaVu Sans, sans-serif\">\n"
        "<title>Who starts whom</title>\n<rect width=\"{0}\" height=\"{1}\" fill=\"{2}\"/>\n",
        width, height, palette.paper);
    auto x_of = [](const Node& n) { return margin + n.column * column_step; };
    // Columns with fewer nodes are centred against the tallest one.
    std::map<std::size_t, std::size_t> filled;
    for (const auto& node : drawing.nodes) filled[node.column] = std::max(filled[node.column], node.row + 1);
    auto y_of = [&](const Node& n) {
        return margin + n.row * row_step + (drawing.rows - filled[n.column]) * row_step / 2;
    };
    std::map<std::pair<std::size_t, std::size_t>, std::size_t> parallel;
    for (std::size_t i = 0; i < drawing.edges.size(); ++i) {
        const auto& edge = drawing.edges[i];
        const auto& from = drawing.nodes[drawing.ends[i].first];
        const auto& to = drawing.nodes[drawing.ends[i].second];
        const std::size_t shift = 15 * parallel[drawing.ends[i]]++;
        const auto x1 = x_of(from) + node_width;
        const auto y1 = y_of(from) + node_height / 2;
        const auto x2 = x_of(to);
        const auto y2 = y_of(to) + node_height / 2;
        const auto colour = edge.broken ? palette.bad : edge.unattended ? palette.good : palette.plain;
        // Several entries between the same two share one line.
        if (shift == 0)
            out += fmt::format(
                "<path d=\"M{} {} C{} {} {} {} {} {}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{}\"{}/>\n", x1, y1,
                x1 + 60, y1, x2 - std::min<std::size_t>(60, x2), y2, x2, y2, colour, edge.unattended ? 2.5 : 1.5,
                edge.broken ? " stroke-dasharray=\"6 4\"" : "");
        if (!edge.label.empty() && shift <= 30)
            out += fmt::format(
                "<text x=\"{}\" y=\"{}\" font-size=\"12\" fill=\"{}\" text-anchor=\"middle\" paint-order=\"stroke\" "
                "stroke=\"{}\" "
                "stroke-width=\"4\">{}</text>\n",
                (x1 + x2) / 2, (y1 + 3 * y2) / 4 - 6 + shift, colour, palette.paper,
                escaped(shift == 30 ? std::string("…") : shorten(edge.label, 15)));
    }
    for (const auto& node : drawing.nodes) {
        const auto colour = !node.system                 ? palette.plain
                            : node.starts == Starts::Yes ? palette.good
                            : node.starts == Starts::No  ? palette.bad
                                                         : palette.plain;
        const auto x = x_of(node);
        const auto y = y_of(node);
        out += fmt::format(
            "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" rx=\"6\" fill=\"{}\" stroke=\"{}\" "
            "stroke-width=\"{}\"/>\n",
            x, y, node_width, node_height, palette.box, colour, node.system ? 2 : 1);
        // The place in brackets goes below the name.
        const auto bracket = node.name.rfind(" (");
        const std::string head = bracket == std::string::npos ? node.name : node.name.substr(0, bracket);
        const std::string rest = bracket == std::string::npos
                                     ? std::string{}
                                     : node.name.substr(bracket + 2, node.name.size() - bracket - 3);
        std::string below = rest;
        if (node.system)
            below += node.starts == Starts::Yes  ? "  starts"
                     : node.starts == Starts::No ? "  does not start"
                                                 : "  cannot be told";
        if (node.system && !node.reached) below += ", on no menu";
        std::vector<std::string> small;
        if (!node.through.empty()) small.push_back("from the " + node.through);
        if (!below.empty()) small.push_back(below);
        std::size_t line = y + node_height / 2 + 5 - 8 * small.size();
        out += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"14\" font-weight=\"bold\" fill=\"{}\">{}</text>\n",
                           x + 10, line, palette.ink, escaped(shorten(head, 25)));
        for (const auto& text : small)
            out += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"13\" fill=\"{}\">{}</text>\n", x + 10, line += 17,
                               colour, escaped(shorten(text, 33)));
    }
    out += fmt::format(
        "<text x=\"{}\" y=\"{}\" font-size=\"13\" fill=\"{}\">thick: starts by itself; thin: when chosen; dashed: does "
        "not work</text>\n</svg>\n",
        margin, height - 10, palette.plain);
    return out;
}

}  // namespace herberge
