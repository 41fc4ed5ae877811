// SPDX-License-Identifier: MIT
// Documents of the tool, key by key: what is said of a machine that is known.
#include <nlohmann/json.hpp>

#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"

using namespace herberge;
using nlohmann::json;

namespace {

json document(const std::string& command, int status = 0) {
    const auto ran = support::shell(std::string(TOOL_PATH) + " " + command + " --format json");
    EXPECT_EQ(ran.status, status) << ran.out;
    return json::parse(ran.out, nullptr, false);
}
std::vector<std::string> keys(const json& object) {
    std::vector<std::string> out;
    for (const auto& [key, value] : object.items()) out.push_back(key);
    return out;
}

TEST(Documents, WhatWindowsStarts) {
    const support::Folder folder;
    const auto image = folder.write("office.img", demo::office_pc().build());
    const auto all = document("startup " + image);
    ASSERT_FALSE(all.is_discarded());
    EXPECT_EQ(all["schema"], "herberge/startup/1");
    EXPECT_EQ(all["place"], "d1p2");
    EXPECT_EQ(all["directory"], "/Windows");
    EXPECT_EQ(all["mode"], "normal");
    EXPECT_EQ(all["control_sets"]["used"], "ControlSet001");
    EXPECT_TRUE(all["control_sets"]["present"].is_array());
    ASSERT_FALSE(all["items"].empty());
    std::size_t present = 0, with_file = 0;
    for (const auto& item : all["items"]) {
        EXPECT_EQ(keys(item), (std::vector<std::string>{"account", "command", "file", "name", "note", "phase",
                                                        "present", "signature", "source", "starts"}));
        EXPECT_FALSE(item["name"].get<std::string>().empty());
        EXPECT_TRUE(item["present"].is_boolean());
        EXPECT_FALSE(item["phase"].get<std::string>().empty());
        if (item["file"].is_string()) {
            ++with_file;
            EXPECT_TRUE(item["file"].get<std::string>().starts_with("/")) << item;
            if (!item["signature"].is_null()) {
                EXPECT_EQ(keys(item["signature"]),
                          (std::vector<std::string>{"catalogue", "chain_problem", "signed_at", "signer", "state"}));
            }
        }
        present += item["present"].get<bool>() ? 1 : 0;
    }
    EXPECT_GT(with_file, 3U);
    EXPECT_GT(present, 3U);
    const auto driver = std::ranges::find_if(all["items"], [](const json& item) { return item["name"] == "storahci"; });
    ASSERT_NE(driver, all["items"].end());
    EXPECT_EQ((*driver)["starts"], true);
    EXPECT_EQ((*driver)["present"], true);
    for (const auto& letter : all["drive_letters"])
        EXPECT_EQ(keys(letter), (std::vector<std::string>{"letter", "place", "recorded"}));
    // In safe mode fewer of them start, none more.
    const auto safe = document("startup " + image + " --mode safe");
    EXPECT_EQ(safe["mode"], "safe");
    const auto starting = [](const json& one) {
        return std::ranges::count_if(one["items"], [](const json& item) { return item["starts"] == true; });
    };
    EXPECT_LE(starting(safe), starting(all));
}

TEST(Documents, WhatLinuxStarts) {
    const support::Folder folder;
    const auto image = folder.write("desk.img", demo::front_desk().build());
    const auto all = document("startup " + image);
    EXPECT_EQ(all["schema"], "herberge/startup-linux/1");
    EXPECT_EQ(all["place"], "d1p1");
    EXPECT_EQ(all["init"], "/usr/bin/busybox");
    EXPECT_EQ(all["flavour"], "busybox");
    ASSERT_FALSE(all["steps"].empty());
    const auto script =
        std::ranges::find_if(all["steps"], [](const json& step) { return step["file"] == "/etc/init.d/rcS"; });
    ASSERT_NE(script, all["steps"].end());
    EXPECT_EQ(keys(*script),
              (std::vector<std::string>{"because", "command", "evidence", "file", "group", "name", "state", "text"}));
    EXPECT_EQ((*script)["state"], "starts");
    EXPECT_EQ((*script)["command"], "/etc/init.d/rcS");
    EXPECT_EQ((*script)["evidence"][0]["place"], "d1p1:/etc/inittab");
    EXPECT_EQ((*script)["evidence"][0]["line"], 1);
    EXPECT_TRUE(all["findings"].is_array());
}

TEST(Documents, WhatAScreenMayComeFrom) {
    const auto known = document("symptom --seen 0xc000000f");
    EXPECT_EQ(known["schema"], "herberge/symptom/1");
    EXPECT_EQ(known["known"], true);
    ASSERT_EQ(known["numbers"].size(), 1U);
    const auto& number = known["numbers"][0];
    EXPECT_EQ(number["written"], "0xc000000f");
    EXPECT_EQ(number["value"], 0xC000000FU);
    EXPECT_EQ(keys(number), (std::vector<std::string>{"kind", "meaning", "name", "value", "written"}));
    EXPECT_TRUE(number["meaning"].is_string());
    ASSERT_FALSE(known["answers"].empty());
    const auto& answer = known["answers"][0];
    EXPECT_EQ(keys(answer), (std::vector<std::string>{"causes", "fit", "stage", "why"}));
    ASSERT_FALSE(answer["causes"].empty());
    const auto& cause = answer["causes"][0];
    EXPECT_EQ(keys(cause),
              (std::vector<std::string>{"code", "fit", "line", "meaning", "on_this_image", "screen", "told_apart_by"}));
    EXPECT_TRUE(cause["on_this_image"].is_null());
    const auto passed =
        document("symptom --seen 'Linux version 6.1.0' --seen 'VFS: Unable to mount root fs on unknown-block(0,0)'");
    ASSERT_FALSE(passed["milestones"].empty());
    EXPECT_EQ(passed["milestones"][0]["line"], "Linux version 6.1.0");
    const auto unknown = document("symptom --seen 'the marmot has whistled'", 1);
    EXPECT_EQ(unknown["known"], false);
    EXPECT_TRUE(unknown["answers"].empty());
    // With a disk: what it really has.
    const support::Folder folder;
    auto desk = demo::front_desk();
    desk.root.remove(std::string("/boot/vmlinuz-") + demo::release);
    const auto image = folder.write("desk.img", desk.build());
    const auto here =
        document("symptom " + image + " --seen \"error: file \\`/boot/vmlinuz-6.1.0-almhof' not found.\"");
    ASSERT_FALSE(here["answers"].empty());
    bool has = false;
    for (const auto& one : here["answers"])
        for (const auto& each : one["causes"]) {
            ASSERT_TRUE(each["on_this_image"].is_object()) << each;
            EXPECT_EQ(keys(each["on_this_image"]), (std::vector<std::string>{"answer", "text"}));
            has = has || (each["code"] == "entry-kernel-missing" && each["on_this_image"]["answer"] == "real");
        }
    EXPECT_TRUE(has) << here.dump(1);
}

TEST(Documents, EveryEndOfARehearsalHasAWord) {
    const std::vector<std::pair<RehearsalEnd, std::string_view>> ends = {
        {RehearsalEnd::KernelEntered, "kernel-entered"},
        {RehearsalEnd::KernelRead, "kernel-read"},
        {RehearsalEnd::UntilReached, "until-reached"},
        {RehearsalEnd::WaitsForKey, "waits-for-key"},
        {RehearsalEnd::Halted, "halted"},
        {RehearsalEnd::Int18, "int-18"},
        {RehearsalEnd::Int19, "int-19"},
        {RehearsalEnd::EmptyMemory, "empty-memory"},
        {RehearsalEnd::Fault, "fault"},
        {RehearsalEnd::Loops, "loops"},
        {RehearsalEnd::Differs, "differs"},
        {RehearsalEnd::Limit, "limit"},
        {RehearsalEnd::NotStarted, "not-started"}};
    for (const auto& [end, word] : ends) EXPECT_EQ(rehearsal_end_id(end), word);
    const std::vector<std::pair<RehearsalEventKind, std::string_view>> events = {
        {RehearsalEventKind::Read, "read"}, {RehearsalEventKind::Write, "write"},
        {RehearsalEventKind::Text, "text"}, {RehearsalEventKind::Transfer, "transfer"},
        {RehearsalEventKind::Key, "key"},   {RehearsalEventKind::Mode, "mode"},
        {RehearsalEventKind::End, "end"}};
    for (const auto& [event, word] : events) EXPECT_EQ(rehearsal_event_id(event), word);
}

/// Ends of code that is run, each by the smallest code that has it.
TEST(Documents, ARehearsalSaysHowItEnded) {
    const struct {
        std::vector<std::uint8_t> code;
        const char* end;
    } rows[] = {
        {{0xFA, 0xF4}, "halted"},                          // cli; hlt
        {{0xCD, 0x18}, "int-18"},                          // int 18h
        {{0xCD, 0x19}, "int-19"},                          // int 19h
        {{0x31, 0xC0, 0xCD, 0x16}, "waits-for-key"},       // xor ax,ax; int 16h
        {{0xEA, 0x00, 0x00, 0x00, 0x50}, "empty-memory"},  // jmp 5000h:0
        {{0x31, 0xC9, 0xF7, 0xF1}, "fault"},               // xor cx,cx; div cx
    };
    const support::Folder folder;
    for (const auto& row : rows) {
        support::Bytes disk(1U << 20U);
        std::ranges::copy(row.code, disk.begin());
        disk[510] = 0x55;
        disk[511] = 0xAA;
        const auto said = document("rehearse " + folder.write("code.img", disk), 1);
        EXPECT_EQ(said["schema"], "herberge/rehearsal/1");
        EXPECT_EQ(said["end"], row.end) << said.dump(1);
    }
}

}  // namespace
