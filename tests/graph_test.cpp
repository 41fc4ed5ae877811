// SPDX-License-Identifier: MIT
// The drawing of who starts whom, of a verdict made by hand: where each box stands, where each line begins and ends,
// how it is drawn, and what is written.
#include <fmt/format.h>
#include <pugixml.hpp>

#include <herberge/report.hpp>

#include "support.hpp"

using namespace herberge;

namespace {

SystemVerdict system(const std::string& name, const std::string& place, Starts starts) {
    SystemVerdict out;
    out.name = name;
    if (!place.empty()) out.place = place;
    out.starts = starts;
    return out;
}

/// The firmware starts GRUB 2 through a sector; that has one entry that starts, four of one that does not; a third
/// system is on no menu.
Verdict three_systems() {
    Verdict out;
    out.systems = {system("Inn", "d1p1", Starts::Yes), system("Hut", "d1p2", Starts::No),
                   system("Cellar", "d2p1", Starts::Unknown)};
    out.graph.push_back({"firmware", "first sector of d1", "", true, false, false, true});
    out.graph.push_back({"first sector of d1", "GRUB 2 (d1p1:/boot)", "", true, false, true, false});
    out.graph.push_back({"GRUB 2 (d1p1:/boot)", "Inn (d1p1)", "Inn", true, false, false, false});
    for (const char* title : {"Hut", "Hut, one by one & slowly", "Hut, third", "Hut, fourth"})
        out.graph.push_back({"GRUB 2 (d1p1:/boot)", "Hut (d1p2)", title, false, true, false, false});
    return out;
}

struct Drawn {
    pugi::xml_document document;
    std::vector<std::string> boxes, lines, texts;
    explicit Drawn(const Verdict& verdict) {
        const auto svg = graph_svg(verdict);
        EXPECT_TRUE(document.load_string(svg.c_str(), pugi::parse_default | pugi::parse_ws_pcdata_single)) << svg;
        for (const auto& node : document.child("svg")) {
            const std::string_view name = node.name();
            const auto of = [&](const char* key) { return std::string(node.attribute(key).value()); };
            if (name == "rect")
                boxes.push_back(
                    fmt::format("{},{} {}x{} {}", of("x"), of("y"), of("width"), of("height"), of("stroke-width")));
            if (name == "path")
                lines.push_back(fmt::format("{} {}{}", of("d"), of("stroke-width"),
                                            of("stroke-dasharray").empty() ? "" : " dashed"));
            if (name == "text") texts.push_back(fmt::format("{},{} {}", of("x"), of("y"), node.child_value()));
        }
    }
};

TEST(Graph, StandsInColumnsByTheWayFromTheFirmware) {
    const Drawn drawn(three_systems());
    const auto svg = drawn.document.child("svg");
    EXPECT_EQ(std::string(svg.attribute("viewBox").value()), "0 0 1028 350");
    // The paper, then the firmware, the loader, and the systems in the last column.
    EXPECT_EQ(drawn.boxes, (std::vector<std::string>{", 1028x350 ", "24,128 250x66 1", "389,128 250x66 1",
                                                     "754,24 250x66 2", "754,128 250x66 2", "754,232 250x66 2"}));
    // From the right edge's middle to the left edge's; several entries of one system share a line.
    EXPECT_EQ(drawn.lines,
              (std::vector<std::string>{"M274 161 C334 161 329 161 389 161 2.5", "M639 161 C699 161 694 57 754 57 2.5",
                                        "M639 161 C699 161 694 161 754 161 1.5 dashed"}));
    EXPECT_EQ(drawn.texts, (std::vector<std::string>{
                               "696,77 Inn", "696,155 Hut", "696,170 Hut, one by one…", "696,185 …", "34,166 firmware",
                               "399,150 GRUB 2", "399,167 from the first sector of d1", "399,184 d1p1:/boot",
                               "764,54 Inn", "764,71 d1p1  starts", "764,158 Hut", "764,175 d1p2  does not start",
                               "764,262 Cellar", "764,279 d2p1  cannot be told, on no menu",
                               "24,340 thick: starts by itself; thin: when chosen; dashed: does not work"}));
}

/// A sector that does more than one thing stays a box of its own.
TEST(Graph, FoldsOnlyASectorThatDoesOneThing) {
    auto two = three_systems();
    two.graph.push_back({"first sector of d1", "Inn (d1p1)", "", false, false, true, false});
    EXPECT_EQ(Drawn(two).boxes.size(), 7U);
    auto named = three_systems();
    named.graph[1].label = "chosen";
    EXPECT_EQ(Drawn(named).boxes.size(), 7U);
    auto broken = three_systems();
    broken.graph[1].broken = true;
    EXPECT_EQ(Drawn(broken).boxes.size(), 7U);
    auto entered = three_systems();
    entered.graph.push_back({"Inn (d1p1)", "GRUB 2 (d1p1:/boot)", "", false, false, false, false});
    EXPECT_EQ(Drawn(entered).boxes.size(), 7U) << "the loader is started by another, too";
}

/// A loader that starts itself again, or one that started it, ends nowhere at the right.
TEST(Graph, ACircleHasAnEnd) {
    Verdict circle;
    circle.systems = {system("Inn", "", Starts::Yes)};
    circle.graph.push_back({"firmware", "first", "", true, false, false, false});
    circle.graph.push_back({"first", "second", "on", true, false, false, false});
    circle.graph.push_back({"second", "first", "back", false, false, false, false});
    circle.graph.push_back({"second", "Inn", "Inn", true, false, false, false});
    const Drawn drawn(circle);
    ASSERT_EQ(drawn.boxes.size(), 5U);
    std::set<std::string> places;
    for (const auto& box : drawn.boxes) places.insert(box.substr(0, box.find(' ')));
    EXPECT_EQ(places.size(), 5U) << "no box lies on another";
    EXPECT_EQ(drawn.lines.size(), 4U);
}

TEST(Graph, TheSourceFormKeepsEveryStep) {
    const auto dot = graph_dot(three_systems());
    EXPECT_TRUE(dot.starts_with("digraph boot {\n  rankdir=LR;\n")) << dot;
    for (const char* line :
         {"  \"firmware\" [label=\"firmware\"];\n", "  \"first sector of d1\" [label=\"first sector of d1\"];\n",
          "  \"Inn (d1p1)\" [label=\"Inn (d1p1)\", peripheries=2, color=\"",
          "  \"Cellar (d2p1)\" [label=", "  \"firmware\" -> \"first sector of d1\" [label=\"\", penwidth=2];\n",
          "  \"GRUB 2 (d1p1:/boot)\" -> \"Inn (d1p1)\" [label=\"Inn\", penwidth=2];\n",
          "  \"GRUB 2 (d1p1:/boot)\" -> \"Hut (d1p2)\" [label=\"Hut\", style=dashed, color=\""})
        EXPECT_NE(dot.find(line), std::string::npos) << line << dot;
    // Each box once.
    std::size_t count = 0;
    for (auto at = dot.find("\n  \"Hut (d1p2)\" [label="); at != std::string::npos;
         at = dot.find("\n  \"Hut (d1p2)\" [label=", at + 1))
        ++count;
    EXPECT_EQ(count, 1U);
}

/// The order in which the edges were found does not move a box.
TEST(Graph, StandsInTheSameColumnsWhateverComesFirst) {
    const auto columns = [](const Verdict& verdict) {
        std::map<std::string, std::string> out;
        for (const auto& text : Drawn(verdict).texts) {
            const auto comma = text.find(',');
            out[text.substr(text.find(' ') + 1)] = text.substr(0, comma);
        }
        return out;
    };
    auto verdict = three_systems();
    const auto forward = columns(verdict);
    ASSERT_GT(forward.size(), 5U);
    std::ranges::reverse(verdict.graph);
    auto backward = columns(verdict);
    for (const char* box : {"firmware", "GRUB 2", "Inn", "Hut", "Cellar"}) {
        ASSERT_TRUE(forward.contains(box)) << box;
        EXPECT_EQ(backward[box], forward.at(box)) << box;
    }
}

}  // namespace
