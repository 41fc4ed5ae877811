// SPDX-License-Identifier: MIT
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>

#include "support.hpp"

using namespace herberge;
using nlohmann::json;

namespace {

json check_of(const std::string& name) {
    for (const auto& story : demo::front_desk_disks())
        if (story.name == name) {
            const support::Checked checked(story.make());
            return json::parse(check_json(checked.machine, checked.verdict));
        }
    return {};
}

TEST(Contract, HasTheAgreedShape) {
    const auto document = check_of("no-init.img");
    EXPECT_EQ(document.at("schema"), "herberge/check/1");
    EXPECT_EQ(document.at("firmware"), "bios");
    EXPECT_EQ(document.at("disks").at(0).at("place"), "d1");
    EXPECT_EQ(document.at("disks").at(0).at("size"), 16U << 20U);
    const auto& system = document.at("systems").at(0);
    EXPECT_EQ(system.at("name"), "Almhof Desk 4 (Enzian)");
    EXPECT_EQ(system.at("kind"), "linux");
    EXPECT_EQ(system.at("place"), "d1p1");
    EXPECT_EQ(system.at("starts"), "no");
    EXPECT_EQ(system.at("stops_at"), "init");
    EXPECT_TRUE(system.at("symptom").is_string());
    EXPECT_TRUE(system.at("route").is_array());
    EXPECT_TRUE(system.at("fallbacks").is_array());
    ASSERT_EQ(system.at("stages").size(), stage_count);
    std::size_t index = 0;
    for (const auto stage : all_stages()) {
        const auto& rung = system.at("stages").at(index++);
        EXPECT_EQ(rung.at("stage"), stage_id(stage));
        EXPECT_TRUE(rung.at("text").is_string());
        EXPECT_TRUE(rung.at("evidence").is_array());
    }
    EXPECT_EQ(system.at("stages").at(0).at("evidence").at(0), json({{"disk", 1},
                                                                    {"offset", 510},
                                                                    {"length", 2},
                                                                    {"place", "d1"},
                                                                    {"line", nullptr},
                                                                    {"expected", "55 aa"},
                                                                    {"found", "55 aa"}}));
    EXPECT_EQ(system.at("stages").at(10).at("state"), "breaks");
    EXPECT_EQ(system.at("stages").at(10).at("findings").at(0), "program-missing");
    EXPECT_EQ(system.at("stages").at(11).at("state"), "not-reached");
    for (const auto& finding : document.at("findings"))
        for (const char* key : {"code", "stage", "severity", "text", "evidence"}) EXPECT_TRUE(finding.contains(key));
}

TEST(Contract, NullsWhereNothingIsToBeSaid) {
    const auto system = check_of("healthy.img").at("systems").at(0);
    EXPECT_EQ(system.at("starts"), "yes");
    EXPECT_TRUE(system.at("stops_at").is_null());
    EXPECT_TRUE(system.at("symptom").is_null());
}

TEST(Contract, BytesThatAreNoTextStayValidJson) {
    auto d = demo::front_desk();
    d.root.file("/etc/os-release", forge::to_bytes("PRETTY_NAME=\"\x1b[2J\xff\xfe Inn\"\n"));
    const support::Checked checked(d.build());
    const auto document = json::parse(check_json(checked.machine, checked.verdict));
    EXPECT_EQ(document.at("systems").at(0).at("name"), "\\x1b[2J\\xff\\xfe Inn");
}

TEST(Documents, LayoutAndEntriesParse) {
    const auto machine = support::machine_of(demo::front_desk().build());
    const auto layout = json::parse(layout_json(machine));
    EXPECT_EQ(layout.at("disks").at(0).at("partitions").at(0).at("uuid"), demo::root_uuid);
    EXPECT_EQ(layout.at("disks").at(0).at("partitions").at(1).at("file_system"), "swap");
    const auto entries = json::parse(entries_json(read_menus(machine)));
    const auto& menu = entries.at("menus").at(0);
    EXPECT_EQ(menu.at("timeout"), 3);
    EXPECT_EQ(menu.at("style"), "hidden");
    EXPECT_TRUE(menu.at("entries").at(0).at("resolves"));
    EXPECT_EQ(menu.at("entries").at(1).at("entries").at(0).at("path"), "1>0");
}

TEST(Findings, CodesAreUniqueAndThePageIsCurrent) {
    std::set<std::string_view> seen;
    for (const auto& row : finding_codes()) {
        EXPECT_TRUE(seen.insert(row.id).second) << row.id;
        EXPECT_FALSE(row.meaning.empty());
    }
    std::ifstream page(std::string(SOURCE_DIR) + "/docs/findings.md");
    const std::string text((std::istreambuf_iterator<char>(page)), {});
    EXPECT_EQ(text, findings_markdown())
        << "docs/findings.md is out of date: run build/release/docs/herberge_make_findings > docs/findings.md";
}

TEST(Stages, IdentifiersGoBothWays) {
    for (const auto stage : all_stages()) EXPECT_EQ(stage_from_id(stage_id(stage)), stage);
    EXPECT_FALSE(stage_from_id("basement"));
}

}  // namespace
