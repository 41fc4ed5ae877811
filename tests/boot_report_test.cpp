// SPDX-License-Identifier: MIT
// A machine's start as documents to hand on.
#include <openssl/evp.h>
#include <nlohmann/json.hpp>
#include <pugixml.hpp>
#include <regex>
#include <sstream>

#include "demo_disks.hpp"
#include "kiosk.hpp"
#include "report/excerpt.hpp"
#include "support.hpp"

using namespace herberge;
using nlohmann::json;
using support::Folder;

namespace {

BootReport report_of(const forge::Bytes& image, bool mending = true) {
    BootReport out;
    out.machine = support::machine_of(image);
    out.verdict = check(out.machine);
    if (mending) out.mendings = mend(out.machine, out.verdict, {});
    out.origin = {"herberge test",
                  1'700'000'000,
                  0.25,
                  {{"test.img", image.size(), 1'600'000'000, std::string(64, 'a')}},
                  {"--optical"}};
    return out;
}
forge::Bytes front_desk(const std::string& name) {
    for (const auto& story : demo::front_desk_disks())
        if (story.name == name) return story.make();
    return {};
}
bool has(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

/// The elements of a page that are open and never closed, or closed and never opened; empty: it nests as it should.
std::string ill_nested(const std::string& page) {
    static const std::set<std::string> single = {"meta", "br", "rect", "path"};
    std::vector<std::string> open;
    const std::string body = page.substr(page.find("</style>") + 8);
    static const std::regex tag("<(/?)([a-z0-9]+)[^<>]*?(/?)>");
    for (auto at = std::sregex_iterator(body.begin(), body.end(), tag); at != std::sregex_iterator(); ++at) {
        const std::string name = (*at)[2];
        if (single.contains(name) || (*at)[3] == "/") continue;
        if ((*at)[1] != "/") {
            open.push_back(name);
            continue;
        }
        if (name == "head" || name == "html" || name == "body") continue;
        if (open.empty() || open.back() != name)
            return "closes " + name + " in " + (open.empty() ? "nothing" : open.back());
        open.pop_back();
    }
    std::erase(open, "body");
    return open.empty() ? std::string{} : "leaves open " + open.back();
}

TEST(Page, SaysTheVerdictFirstAndShowsWhatItRestsOn) {
    const auto report = report_of(front_desk("wrong-kernel.img"));
    const auto page = report_html(report);
    EXPECT_EQ(ill_nested(page), "");
    EXPECT_TRUE(has(page, "<h1>The system will not start</h1>"));
    EXPECT_LT(page.find("will not start: stops at entry"), page.find("Stage by stage"));
    EXPECT_TRUE(has(page, "<pre class=\"screen\">error: file `/boot/vmlinuz-6.1.0-almhof' not found.\n"));
    // The line of the configuration that names the kernel, with its neighbours.
    EXPECT_TRUE(has(page, "<i>21</i>  <mark>    linux /boot/vmlinuz-6.1.0-almhof root=UUID="));
    EXPECT_TRUE(has(page, "<i>20</i>      echo 'Opening the front desk ...'\n"));
    // The signature's two bytes as they lie there.
    EXPECT_TRUE(has(page, "<i>000001fe</i>  55 aa"));
    EXPECT_TRUE(has(page, "What would mend it"));
    EXPECT_TRUE(has(page, "name /boot/vmlinuz-6.1.2-almhof instead of /boot/vmlinuz-6.1.0-almhof"));
    EXPECT_TRUE(has(page, "2023-11-14 22:13:20 UTC"));
    EXPECT_TRUE(has(page, std::string(64, 'a')));
    for (const auto stage : all_stages()) EXPECT_TRUE(has(page, ">" + std::string(stage_id(stage)) + "</span>"));
}

TEST(Page, NeedsNoScriptAndNothingFromANetwork) {
    auto page = report_html(report_of(front_desk("wrong-kernel.img")));
    EXPECT_FALSE(has(page, "<script"));
    EXPECT_FALSE(has(page, " src="));
    EXPECT_FALSE(has(page, "@import"));
    EXPECT_FALSE(has(page, "url("));
    // The one address in it is the name of SVG's namespace.
    const std::string name = "xmlns=\"http://www.w3.org/2000/svg\"";
    for (auto at = page.find(name); at != std::string::npos; at = page.find(name)) page.erase(at, name.size());
    EXPECT_FALSE(has(page, "http"));
}

TEST(Page, NamesFromADiskAreNoMarkup) {
    auto desk = demo::front_desk();
    desk.root.file("/etc/os-release",
                   forge::to_bytes("PRETTY_NAME=\"<script>alert(1)</script> & \\\"Inn\\\" | `x` ]]>\"\n"));
    const auto report = report_of(desk.build());
    ASSERT_TRUE(report.verdict.systems.front().name.starts_with("<script>"));
    const auto page = report_html(report);
    EXPECT_FALSE(has(page, "<script"));
    EXPECT_EQ(ill_nested(page), "");
    EXPECT_TRUE(has(page, "&lt;script&gt;alert(1)&lt;/script&gt; &amp; "));
    const auto markdown = report_markdown(report);
    EXPECT_TRUE(has(markdown, "| \\<script\\>alert(1)\\</script\\> \\& "));
    EXPECT_TRUE(has(markdown, "\\| \\`x\\` \\]\\]\\> (d1p1) | starts |"));
    pugi::xml_document xml;
    ASSERT_TRUE(xml.load_string(report_junit(report).c_str()));
    EXPECT_TRUE(std::string(xml.select_node("//testcase").node().attribute("name").value())
                    .starts_with("<script>alert(1)</script> & "));
}

TEST(Page, ALongLineAndManyBytesAreCutAndSaySo) {
    auto desk = demo::front_desk();
    support::edit(desk.root, "/boot/grub/grub.cfg", "/boot/vmlinuz-6.1.0-almhof",
                  "/boot/vmlinuz-none " + std::string(190, 'q') + "\xC3\xB6\xC3\xB6\xC3\xB6\xC3\xB6");
    const auto page = report_html(report_of(desk.build(), false));
    EXPECT_TRUE(has(page, "qqqqqqqqqq"));
    EXPECT_TRUE(has(page, " …</mark>"));
    EXPECT_FALSE(has(page, "\\xc3"));
    EXPECT_TRUE(has(page, " more bytes</i>"));
    EXPECT_FALSE(has(page, "What would mend it"));
}

TEST(Markdown, TellsWhyAndWhatTheScreenShows) {
    const auto text = report_markdown(report_of(front_desk("wrong-kernel.img")));
    EXPECT_TRUE(
        text.starts_with("# The system will not start\n\nd1 test.img (16.0 MiB), started by a BIOS\n\n| System | "
                         "Verdict |\n|---|---|\n"));
    EXPECT_TRUE(has(text, "**On the screen:**\n\n```\nerror: file `/boot/vmlinuz-6.1.0-almhof' not found.\n"));
    EXPECT_TRUE(has(text, "> 21      linux /boot/vmlinuz-6.1.0-almhof"));
    EXPECT_TRUE(has(text, "| entry | breaks | the kernel /boot/vmlinuz-6.1.0-almhof cannot be opened: file \\`/boot"));
    EXPECT_TRUE(
        has(text,
            "**What would mend it** (proven on an overlay; 2 bytes in 2 places change): in d1p1:/boot/grub/grub.cfg"));
}

TEST(Junit, ASystemIsACase) {
    const auto failing = report_of(front_desk("wrong-kernel.img"));
    pugi::xml_document xml;
    ASSERT_TRUE(xml.load_string(report_junit(failing).c_str()));
    const auto suite = xml.child("testsuites").child("testsuite");
    EXPECT_STREQ(suite.attribute("name").value(), "test.img");
    EXPECT_EQ(suite.attribute("tests").as_int(), 1);
    EXPECT_EQ(suite.attribute("failures").as_int(), 1);
    const auto one = suite.child("testcase");
    EXPECT_STREQ(one.attribute("name").value(), "Almhof Desk 4 (Enzian) (d1p1)");
    EXPECT_STREQ(one.attribute("classname").value(), "BIOS");
    EXPECT_STREQ(one.child("failure").attribute("type").value(), "entry");
    EXPECT_STREQ(one.child("failure").attribute("message").value(), "will not start: stops at entry");
    EXPECT_TRUE(
        has(one.child("failure").text().get(), "on the screen:\nerror: file `/boot/vmlinuz-6.1.0-almhof' not found."));
    EXPECT_TRUE(has(one.child("system-out").text().get(), "would mend it (proven): in d1p1:/boot/grub/grub.cfg"));

    ASSERT_TRUE(xml.load_string(report_junit(report_of(front_desk("healthy.img"))).c_str()));
    const auto good = xml.child("testsuites").child("testsuite");
    EXPECT_EQ(good.attribute("failures").as_int(), 0);
    EXPECT_FALSE(good.child("testcase").child("failure"));

    // What cannot be told is skipped, unless that counts as a failure; a disk without a system fails.
    auto untold = report_of(front_desk("healthy.img"));
    auto& system = untold.verdict.systems.front();
    system.starts = Starts::Unknown;
    system.stages.back().state = State::Unknown;
    system.stages.back().text = "hidden \xEF\xBF\xBF in a vault";
    ASSERT_TRUE(xml.load_string(report_junit(untold).c_str()));
    EXPECT_EQ(xml.child("testsuites").attribute("skipped").as_int(), 1);
    EXPECT_STREQ(xml.select_node("//skipped").node().attribute("message").value(),
                 "holds as far as init; the rest cannot be told from these images alone: hidden ??? in a vault");
    ASSERT_TRUE(xml.load_string(report_junit(untold, true).c_str()));
    EXPECT_EQ(xml.child("testsuites").attribute("skipped").as_int(), 0);
    EXPECT_EQ(xml.child("testsuites").attribute("failures").as_int(), 1);
    untold.verdict.systems.clear();
    ASSERT_TRUE(xml.load_string(report_junit(untold).c_str()));
    EXPECT_EQ(xml.child("testsuites").attribute("tests").as_int(), 1);
    EXPECT_STREQ(xml.select_node("//testcase/failure").node().attribute("message").value(),
                 "No system was found on this machine");
}

constexpr auto sarif_part = SOURCE_DIR "/tests/schema/sarif-2.1.0-part.json";

TEST(Sarif, ResultsNameTheirCauseWhereItLiesAndWhatMendsIt) {
    const auto report = report_of(front_desk("wrong-kernel.img"));
    const auto text = report_sarif(report);
    EXPECT_EQ(support::schema_problem(text, sarif_part), "");
    const auto run = json::parse(text).at("runs").at(0);
    const auto& result = run.at("results").at(0);
    EXPECT_EQ(result.at("ruleId"), "entry-kernel-missing");
    EXPECT_EQ(run.at("tool").at("driver").at("rules").at(result.at("ruleIndex").get<std::size_t>()).at("id"),
              "entry-kernel-missing");
    EXPECT_EQ(result.at("kind"), "fail");
    EXPECT_EQ(result.at("level"), "error");
    EXPECT_TRUE(has(result.at("message").at("text"),
                    "Almhof Desk 4 (Enzian) (d1p1): will not start: stops at entry. the kernel"));
    EXPECT_EQ(result.at("properties").at("stage"), "entry");
    // The line of a file that lies in the image.
    const auto& where = result.at("locations").at(1).at("physicalLocation");
    EXPECT_EQ(where.at("region").at("startLine"), 21);
    const auto& file = run.at("artifacts").at(where.at("artifactLocation").at("index").get<std::size_t>());
    EXPECT_EQ(file.at("location").at("uri"), "/boot/grub/grub.cfg");
    EXPECT_EQ(run.at("artifacts").at(file.at("parentIndex").get<std::size_t>()).at("location").at("uri"), "test.img");
    EXPECT_EQ(run.at("artifacts").at(0).at("hashes").at("sha-256"), std::string(64, 'a'));
    // The fix has the patch's bytes at the patch's places.
    const auto& patch = report.mendings->front().proposals.front().patch;
    const auto& replaced = result.at("fixes").at(0).at("artifactChanges").at(0).at("replacements");
    ASSERT_EQ(replaced.size(), patch.changes.size());
    for (std::size_t i = 0; i < patch.changes.size(); ++i) {
        EXPECT_EQ(replaced.at(i).at("deletedRegion").at("byteOffset"), patch.changes[i].offset);
        EXPECT_EQ(replaced.at(i).at("deletedRegion").at("byteLength"), patch.changes[i].before.size());
        const auto binary = replaced.at(i).at("insertedContent").at("binary").get<std::string>();
        std::vector<std::uint8_t> bytes(binary.size());
        bytes.resize(static_cast<std::size_t>(EVP_DecodeBlock(
            bytes.data(), reinterpret_cast<const unsigned char*>(binary.data()), static_cast<int>(binary.size()))));
        bytes.resize(bytes.size() - static_cast<std::size_t>(std::count(binary.begin(), binary.end(), '=')));
        EXPECT_EQ(bytes, patch.changes[i].after);
    }
    // What stops it is told once.
    EXPECT_EQ(std::ranges::count(run.at("results"), json("entry-kernel-missing"),
                                 [](const json& one) { return one.at("ruleId"); }),
              1);
}

TEST(Sarif, ProposalsWithoutAPatchAreNoFixes) {
    auto report = report_of(front_desk("wrong-kernel.img"));
    auto& proposals = report.mendings->front().proposals;
    ASSERT_FALSE(proposals.empty());
    const auto fixes = [&] {
        const auto run = json::parse(report_sarif(report)).at("runs").at(0);
        return run.at("results").at(0).value("fixes", json::array());
    };
    const auto whole = fixes();
    ASSERT_EQ(whole.size(), proposals.size());
    // One that has none, before the others and behind them: they stay.
    auto without = proposals.front();
    without.patch = {};
    without.title = "replace the disk";
    proposals.insert(proposals.begin(), without);
    proposals.push_back(without);
    EXPECT_EQ(fixes(), whole);
}

TEST(Sarif, WhatStartsPassesAndWhatCannotBeToldIsOpen) {
    auto report = report_of(front_desk("healthy.img"));
    report.machine.disks.front().path = "/srv/a b%\xC3\xB6.img";
    auto text = report_sarif(report);
    EXPECT_EQ(support::schema_problem(text, sarif_part), "");
    auto run = json::parse(text).at("runs").at(0);
    EXPECT_EQ(run.at("results").at(0).at("kind"), "pass");
    EXPECT_EQ(run.at("results").at(0).at("ruleId"), "system-starts");
    EXPECT_EQ(run.at("artifacts").at(0).at("location").at("uri"), "file:///srv/a%20b%25%C3%B6.img");
    report.verdict.systems.front().starts = Starts::Unknown;
    text = report_sarif(report);
    EXPECT_EQ(support::schema_problem(text, sarif_part), "");
    EXPECT_EQ(json::parse(text).at("runs").at(0).at("results").at(0).at("kind"), "open");
}

TEST(Schemas, RefuseWhatTheyDoNotDescribe) {
    const auto report = report_of(front_desk("wrong-kernel.img"));
    auto document = json::parse(report_json(report));
    EXPECT_EQ(support::schema_problem(document.dump()), "");
    EXPECT_EQ(document.at("check"), json::parse(check_json(report.machine, report.verdict)));
    EXPECT_EQ(document.at("mend").at("systems").size(), 1U);
    EXPECT_EQ(document.at("images").at(0).at("modified"), 1'600'000'000);
    for (const auto& change : std::vector<std::function<void(json&)>>{
             [](json& it) { it["check"]["systems"][0]["starts"] = "perhaps"; },
             [](json& it) { it["check"]["systems"][0]["stages"].erase(3); },
             [](json& it) { it["check"]["systems"][0]["stages"][2]["evidence"][0]["extent"] = 3; },
             [](json& it) { it["layout"]["disks"][0]["partitions"][0].erase("names"); },
             [](json& it) { it["mend"]["systems"][0]["proposals"][0]["patch"]["changes"][0]["after"] = "0"; },
             [](json& it) { it["images"][0]["sha256"] = "abc"; }, [](json& it) { it.erase("options"); }}) {
        auto other = document;
        change(other);
        EXPECT_NE(support::schema_problem(other.dump()), "");
    }
    // Each document of the library has a schema.
    EXPECT_EQ(support::schema_problem(systems_json(report.verdict)), "");
    EXPECT_EQ(support::schema_problem(layout_json(report.machine)), "");
    EXPECT_EQ(support::schema_problem(entries_json(report.verdict.menus)), "");
}

TEST(ReportCommand, WritesEachFormAndEndsAsCheckDoes) {
    const Folder folder;
    const auto image = folder.write("desk.img", front_desk("wrong-kernel.img"));
    const auto sound = folder.write("sound.img", front_desk("healthy.img"));
    const auto run = [&](const std::string& arguments) {
        return support::shell("cd " + folder.file("") + " && SOURCE_DATE_EPOCH=1700000000 " TOOL_PATH " report " +
                              arguments);
    };
    EXPECT_EQ(run(sound + " --format junit").status, 0);
    const auto page = run(image + " --hash --firmware bios");
    EXPECT_EQ(page.status, 1);
    EXPECT_TRUE(page.out.starts_with("<!DOCTYPE html>"));
    EXPECT_TRUE(has(page.out, "2023-11-14 22:13:20 UTC"));
    EXPECT_TRUE(has(page.out, "--firmware bios"));
    const auto digest = support::shell("sha256sum < " + image).out.substr(0, 64);
    EXPECT_TRUE(has(page.out, digest));
    EXPECT_EQ(run(image + " --to page.html").status, 1);
    EXPECT_EQ(run(image + " --to page.html").status, 2) << "a file that is there is not replaced";
    EXPECT_EQ(run(image + " --to page.html --replace --format markdown").status, 1);
    EXPECT_TRUE(support::shell("cat " + folder.file("page.html")).out.starts_with("# The system will not start"));
    EXPECT_EQ(run(image + " --to none/page.html").status, 2);
    EXPECT_EQ(run(image + " --format text").status, 2);
    const auto whole = run(image + " --format json --no-proposals");
    EXPECT_EQ(whole.status, 1);
    EXPECT_TRUE(json::parse(whole.out).at("mend").is_null());
    EXPECT_EQ(support::schema_problem(run(image + " --format sarif").out, sarif_part), "");
    EXPECT_EQ(run(folder.file("none.img")).status, 3);
}

TEST(ReportCommand, TellsTheFirmwaresOptions) {
    const Folder folder;
    const auto story = demo::kiosk_stories().front();
    const auto disk = story.disk();
    const auto image = folder.write("kiosk.img", disk);
    const auto flash = folder.write("kiosk.fd", story.variables(disk));
    const auto page =
        support::shell(std::string(TOOL_PATH) + " report --no-proposals " + image + " --variables " + flash).out;
    EXPECT_TRUE(has(page, "Boot options of the firmware"));
    EXPECT_TRUE(
        has(page, "<td>Boot0004</td><td>Almhof Check-in</td><td>d1p1:/EFI/almhof/checkin.efi</td><td>resolves</td>"));
    EXPECT_EQ(ill_nested(page), "");
}

/// What evidence points to, read again.
TEST(Excerpts, ShowBytesBySixteenAndLinesWithTheirNeighbours) {
    auto desk = demo::front_desk();
    std::string text;
    for (int i = 1; i <= 9; ++i) text += "bed " + std::to_string(i) + (i < 9 ? "\n" : "");
    desk.root.file("/etc/beds", text);
    for (std::size_t i = 195; i < 205; ++i) {
        desk.root.file("/etc/wide" + std::to_string(i), std::string(i, 'x') + "äöü" + std::string(40, 'y') + "\r\n");
    }
    desk.root.file("/etc/tab", "a\tb\r\n\tc\n");
    const auto image = desk.build();
    const auto machine = support::machine_of(image);
    const auto shown = [&](std::uint64_t offset, std::uint64_t length) {
        Evidence evidence;
        evidence.range = DiskRange{1, offset, length};
        return report::excerpt(machine, evidence);
    };
    for (const auto& [length, rows] : std::initializer_list<std::pair<std::uint64_t, std::size_t>>{
             {1, 1}, {16, 1}, {17, 2}, {32, 2}, {95, 6}, {96, 6}, {97, 6}, {200, 6}}) {
        const auto out = shown(446, length);
        ASSERT_TRUE(out) << length;
        EXPECT_EQ(out->lines.size(), rows) << length;
        EXPECT_EQ(out->more, length > 96 ? "and " + std::to_string(length - 96) + " more bytes" : "") << length;
        EXPECT_EQ(out->lines[0].head, "000001be");
        if (rows > 1) EXPECT_EQ(out->lines[1].head, "000001ce");
    }
    const auto mark = shown(509, 3);
    EXPECT_EQ(mark->lines[0].text, "00 55 aa" + std::string(41, ' ') + ".U.");
    EXPECT_FALSE(shown(446, 0));
    EXPECT_FALSE(shown(image.size() - 1, 2));
    EXPECT_TRUE(shown(image.size() - 1, 1));
    const auto line = [&](const std::string& path, int number) {
        return report::excerpt(machine, evidence_line("d1p1:" + path, number));
    };
    const auto around = [&](int number) {
        std::string out;
        const auto found = line("/etc/beds", number);
        if (!found) return std::string("none");
        for (const auto& one : found->lines) out += (one.meant ? "[" : "") + one.head + (one.meant ? "] " : " ");
        return out;
    };
    EXPECT_EQ(around(0), "none");
    EXPECT_EQ(around(1), "[1] 2 3 ");
    EXPECT_EQ(around(2), "1 [2] 3 4 ");
    EXPECT_EQ(around(5), "3 4 [5] 6 7 ");
    EXPECT_EQ(around(8), "6 7 [8] 9 ");
    EXPECT_EQ(around(9), "7 8 [9] ");
    EXPECT_EQ(around(10), "none");
    EXPECT_FALSE(line("/etc/none", 1));
    EXPECT_FALSE(report::excerpt(machine, evidence_line("d1p2:/etc/beds", 1)));
    EXPECT_FALSE(report::excerpt(machine, evidence_place("d1p1:/etc/beds")));
    EXPECT_EQ(line("/etc/tab", 1)->lines[0].text, "a   b");
    EXPECT_EQ(line("/etc/tab", 1)->lines[1].text, "    c");
    // A long line ends before the character that its 200th byte lies in.
    for (std::size_t i = 195; i < 205; ++i) {
        const std::string whole = std::string(i, 'x') + "äöü" + std::string(40, 'y');
        std::size_t end = 200;
        while (end > i && end < i + 6 && (end - i) % 2 != 0) --end;
        EXPECT_EQ(line("/etc/wide" + std::to_string(i), 1)->lines[0].text, whole.substr(0, end) + " …") << i;
    }
}

}  // namespace
