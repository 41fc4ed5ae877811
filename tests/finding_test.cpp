// SPDX-License-Identifier: MIT
// Findings, the claims that they become, and the screens that the table has for them.
#include "support.hpp"

using namespace herberge;

namespace {

TEST(Screens, FitTheirGeneralForm) {
    const struct {
        const char *screen, *general;
        bool fits;
    } rows[] = {
        {"error: file `/boot/bell' not found.", "error: file `…' not found.", true},
        {"error: file `/boot/bell' is gone.", "error: file `…' not found.", false},
        {"error: file `/boot/bell' not found.", "error: no such device: ….", false},
        {"Loading bell... ok\nBooting", "Loading …ok", true},
        // What differs may be nothing at all, and stand at either end.
        {"error: file `' not found.", "error: file `…' not found.", true},
        {"bell tower", "…tower", true},
        {"bell tower", "bell…", true},
        {"bell tower", "…", true},
        {"bell tower", "", true},
        // The fixed parts stand in their order, and each once more where it is wanted once more.
        {"two one", "one…two", false},
        {"one two", "one…two", true},
        {"one", "one…one", false},
        {"one one", "one…one", true},
        {"oneone", "one…one", true},
        {"one on", "one…one", false},
    };
    for (const auto& row : rows)
        EXPECT_EQ(is_such_screen(row.screen, row.general), row.fits) << row.screen << row.general;
}

TEST(Screens, OfACodeAreThoseOfTheTable) {
    for (const auto& row : finding_codes()) {
        std::string joined;
        for (const auto screen : screens_of(row.code)) joined += (joined.empty() ? "" : " | ") + std::string(screen);
        EXPECT_EQ(joined, row.symptom) << row.id;
    }
}

TEST(Claims, TheFirstBreakGivesTheText) {
    const auto remark = make_finding(Code::ShimFallback, "a lamp is out");
    ASSERT_NE(remark.severity, Severity::Breaks);
    Claim claim = untold(Stage::Loader, "nobody knows", {evidence_place("d1p1", "a lamp", "none")});
    claim.findings = {remark};
    EXPECT_EQ(claim.state, State::Unknown);

    claim.break_with(
        make_finding(Code::ShimFallbackNothing, "the door is shut", {evidence_place("d1p2", "open", "shut")}));
    EXPECT_EQ(claim.state, State::Breaks);
    EXPECT_EQ(claim.text, "the door is shut");
    ASSERT_EQ(claim.evidence.size(), 1U);
    EXPECT_EQ(claim.evidence[0].place, "d1p2");
    ASSERT_EQ(claim.findings.size(), 2U);
    EXPECT_EQ(claim.findings[0].code, Code::ShimFallbackNothing) << "what breaks it stands first";
    EXPECT_EQ(claim.findings[1].code, Code::ShimFallback);

    auto second = make_finding(Code::ShimFallback, "the key is lost", {evidence_place("d1p3", "a key", "none")});
    claim.break_with(second);
    EXPECT_EQ(claim.text, "the door is shut");
    EXPECT_EQ(claim.evidence[0].place, "d1p2");
    ASSERT_EQ(claim.findings.size(), 3U);
    EXPECT_EQ(claim.findings[2].text, "the key is lost");
    EXPECT_EQ(claim.findings[2].severity, Severity::Breaks) << "whatever the table says of it";
}

TEST(Claims, ABreakStandsAtItsOwnStageOrAtAnother) {
    const auto finding = make_finding(Code::ShimFallback, "a lamp is out", {evidence_place("d1p1", {}, {})}, "dark");
    EXPECT_EQ(finding.stage, finding_codes()[static_cast<std::size_t>(Code::ShimFallback)].stage);
    const auto own = broken(finding);
    EXPECT_EQ(own.stage, finding.stage);
    EXPECT_EQ(own.state, State::Breaks);
    EXPECT_EQ(own.text, "a lamp is out");
    ASSERT_EQ(own.findings.size(), 1U);
    EXPECT_EQ(own.findings[0].severity, Severity::Breaks);
    EXPECT_EQ(own.findings[0].symptom, "dark");
    const auto moved = broken(finding, Stage::BootSector);
    EXPECT_EQ(moved.stage, Stage::BootSector);
    EXPECT_EQ(moved.findings[0].stage, Stage::BootSector);
}

TEST(Evidence, SaysWhereItLies) {
    const auto source = memory_source(support::Bytes(4096, 7), "d3", 3);
    const auto bytes = evidence_bytes(*source, 510, 2, "55 aa", "00 00");
    ASSERT_TRUE(bytes.range);
    EXPECT_EQ(*bytes.range, (DiskRange{3, 510, 2}));
    EXPECT_EQ(bytes.place, "d3");
    EXPECT_FALSE(bytes.line);
    EXPECT_EQ(evidence_line("d1p1:/fstab", 3, "a", "b").line, 3);
    EXPECT_FALSE(evidence_line("d1p1:/fstab", 0, "a", "b").line) << "no line is none";
    const auto plain = evidence_error({ErrorKind::Malformed, "the map is torn", "d1p1:/map", "whole", ""});
    EXPECT_EQ(plain.found, "the map is torn");
    EXPECT_EQ(plain.expected, "whole");
    EXPECT_EQ(evidence_error({ErrorKind::Malformed, "the map is torn", "d1p1:/map", "whole", "two halves"}).found,
              "the map is torn (two halves)");
}

}  // namespace
