// SPDX-License-Identifier: MIT
// What mends a machine: each proposal is applied and walked again by the test itself.
#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>

#include "cellar.hpp"
#include "demo_disks.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "ledger.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "remedy/edits.hpp"
#include "remedy/tables.hpp"
#include "support.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
using support::machine_of;

namespace {

std::vector<Mending> mended(const Machine& machine, const CheckOptions& options = {}) {
    return mend(machine, check(machine, options), options);
}
/// The systems that start once a proposal's patch is applied, read back from its document.
std::string after(const Machine& machine, const Proposal& proposal, const CheckOptions& options = {}) {
    const auto patch = read_patch(patch_json(proposal.patch));
    if (!patch) return patch.error().text();
    Workshop shop(machine);
    if (const auto applied = shop.apply(*patch); !applied) return applied.error().text();
    std::string out;
    for (const auto& system : check(shop.machine(), options).systems)
        out += system.place.value_or("?") + " " + std::string(starts_id(system.starts)) + ";";
    return out;
}

struct Harm {
    const char* name;
    void (*change)(Bytes&);
    const char* title;  ///< the first proposal's
    Code cures;
};
class Mended : public testing::TestWithParam<Harm> {};
TEST_P(Mended, IsProvenAndThisIsTheFirstProposal) {
    auto disk = demo::front_desk().build();
    GetParam().change(disk);
    const Machine machine = machine_of(disk);
    const auto found = mended(machine);
    ASSERT_EQ(found.size(), 1U);
    ASSERT_FALSE(found[0].proposals.empty()) << found[0].before.reason << " / " << found[0].bring;
    const auto& first = found[0].proposals[0];
    EXPECT_EQ(first.title, GetParam().title);
    EXPECT_EQ(first.cures.at(0), GetParam().cures) << code_id(first.cures[0]);
    EXPECT_EQ(first.title, first.patch.title);
    EXPECT_TRUE(found[0].bring.empty());
    for (const auto& proposal : found[0].proposals) EXPECT_EQ(after(machine, proposal), "d1p1 yes;") << proposal.title;
}
INSTANTIATE_TEST_SUITE_P(
    Tables, Mended,
    testing::Values(Harm{"Signature", [](Bytes& d) { d[510] = d[511] = 0; },
                         "write the mark 55 AA at the end of d1's first sector", Code::FirmwareNothingToStart},
                    Harm{"StatusByte", [](Bytes& d) { d[446 + 16] = 0x55; },
                         "set the status byte of entry 2 of d1's table to 00 (it is 55)", Code::GrubPrefixDevice},
                    Harm{"EntryBesideItsVolume",
                         [](Bytes& d) { forge::put32(d, 446 + 8, forge::get32(d, 446 + 8) + 8); },
                         "let d1p1 begin at sector 2048, where its ext4 “frontdesk” lies (the table says 2056)",
                         Code::PartitionEntryMisplaced},
                    Harm{"EntryTooShort", [](Bytes& d) { forge::put32(d, 446 + 12, forge::get32(d, 446 + 12) - 64); },
                         "let d1p1 be 24576 sectors long, as its file system is (the table says 24512)",
                         Code::ExtLargerThanPartition},
                    Harm{"EntryGone", [](Bytes& d) { std::fill_n(d.begin() + 446, 16, std::uint8_t{0}); },
                         "put the ext4 “frontdesk” at sector 2048 of d1 back into the table, as partition 1",
                         Code::PartitionEntryMisplaced}),
    support::by_name);

}  // namespace

TEST(Mend, SeveralChangesTogetherWhereOneDoesNotDo) {
    auto disk = demo::front_desk().build();
    std::fill_n(disk.begin() + 446, 16, std::uint8_t{0});
    disk[510] = 0;
    const Machine machine = machine_of(disk);
    const auto found = mended(machine);
    ASSERT_FALSE(found.at(0).proposals.empty());
    const auto& proposal = found[0].proposals[0];
    EXPECT_EQ(proposal.steps.size(), 2U);
    EXPECT_NE(proposal.title.find("; then "), std::string::npos);
    EXPECT_EQ(proposal.cures.size(), 2U);
    EXPECT_EQ(after(machine, proposal), "d1p1 yes;");
    // With one change at most there is none, and it says how far one gets.
    MendLimits limits;
    limits.most_changes = 1;
    const auto single = mend(machine, check(machine), {}, limits);
    EXPECT_TRUE(single.at(0).proposals.empty());
    ASSERT_FALSE(single[0].further.empty());
    EXPECT_NE(single[0].further[0].find("write the mark 55 AA at the end of d1's first sector: then it stops at"),
              std::string::npos);
    EXPECT_FALSE(single[0].bring.empty());
    limits.most_changes = 3;
    limits.most_walks = 0;
    EXPECT_TRUE(mend(machine, check(machine), {}, limits).at(0).proposals.empty());
}

TEST(Mend, ConfigurationsAreCorrectedInPlace) {
    const struct {
        const char* file;
        std::string from, to;
        const char* says;
    } cases[] = {
        {"/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
         "root=UUID=a1b0f000-0001-4a01-8a01-00000a1b0fff", "in d1p1:/boot/grub/grub.cfg, name the volume "},
        {"/boot/grub/grub.cfg", std::string("linux /boot/vmlinuz-") + demo::release, "linux /boot/vmlinuz-6.1.0-almhog",
         "in d1p1:/boot/grub/grub.cfg, name /boot/vmlinuz-6.1.0-almhof instead of /boot/vmlinuz-6.1.0-almhog"},
        {"/etc/fstab", "tmpfs /tmp tmpfs", "UUID=dead0000-0000-4000-8000-000000000000 /var/log ext4",
         "a comment (UUID=dead0000-0000-4000-8000-000000000000 for /var/log is not there)"},
    };
    for (const auto& one : cases) {
        auto desk = demo::front_desk();
        support::edit(desk.root, one.file, one.from, one.to);
        const Machine machine = machine_of(desk.build());
        const auto found = mended(machine);
        ASSERT_FALSE(found.empty()) << one.to;
        ASSERT_FALSE(found[0].proposals.empty()) << one.to << ": " << found[0].before.reason;
        EXPECT_TRUE(std::ranges::any_of(found[0].proposals, [&](const Proposal& p) {
            return p.title.find(one.says) != std::string::npos;
        })) << found[0].proposals[0].title;
        for (const auto& proposal : found[0].proposals) EXPECT_EQ(after(machine, proposal), "d1p1 yes;");
    }
}

/// What systemd cannot mount, and what it cannot mount on.
TEST(Mend, WhatSystemdCannotMount) {
    auto desk = demo::reception();
    support::edit(desk.root, "/etc/fstab", "tmpfs /tmp", "tmpfs /srv tmpfs size=small 0 0\ntmpfs /tmp");
    const Machine machine = machine_of(desk.build());
    const auto found = mended(machine);
    ASSERT_FALSE(found.empty());
    ASSERT_FALSE(found[0].proposals.empty()) << found[0].before.reason;
    EXPECT_EQ(found[0].proposals[0].title,
              "in d1p1:/etc/fstab, make line 3 a comment (tmpfs for /srv cannot be mounted)");
    EXPECT_EQ(after(machine, found[0].proposals[0]), "d1p1 yes;");
    for (const bool other : {false, true}) {
        auto bare = demo::reception();
        bare.root.remove("/sys");
        if (other) bare.root.file("/sys", "closed\n");
        const Machine lacking = machine_of(bare.build());
        const auto made = mended(lacking);
        ASSERT_FALSE(made.empty());
        ASSERT_FALSE(made[0].proposals.empty()) << made[0].before.reason;
        EXPECT_EQ(made[0].proposals[0].title, "make the folder d1p1:/sys");
        EXPECT_EQ(after(lacking, made[0].proposals[0]), "d1p1 yes;");
    }
}

TEST(Mend, MarksOfFilesAreWrittenBack) {
    const struct {
        std::string file;
        std::size_t at;
        Bytes instead;
        std::string title;
    } cases[] = {
        {std::string("/boot/vmlinuz-") + demo::release,
         0x202,
         {0, 0, 0, 0},
         std::string("write the kernel's mark “HdrS” back into d1p1:/boot/vmlinuz-") + demo::release + ", at byte 514"},
        {"/usr/bin/busybox",
         0,
         {0, 0, 0, 0},
         "write the mark of a program (7F “ELF”) back into d1p1:/usr/bin/busybox, at byte 0"}};
    for (const auto& one : cases) {
        auto desk = demo::front_desk();
        std::ranges::copy(one.instead, desk.root.at(one.file).content.begin() + static_cast<std::ptrdiff_t>(one.at));
        const Machine machine = machine_of(desk.build());
        const auto found = mended(machine);
        ASSERT_FALSE(found.empty()) << one.file;
        ASSERT_FALSE(found[0].proposals.empty()) << one.file << found[0].before.reason;
        EXPECT_EQ(found[0].proposals[0].title, one.title);
        EXPECT_EQ(after(machine, found[0].proposals[0]), "d1p1 yes;");
    }
}

TEST(Mend, TheDemosDisksSayWhatMendsThem) {
    // Every broken disk has a proposal, or a sentence on what would have to be brought.
    const std::map<std::string, std::string> known = {
        {"wrong-kernel.img", "in d1p1:/boot/grub/grub.cfg, name /boot/vmlinuz-6.1.2-almhof instead of "},
        {"cloned-root.img",
         "in d1p1:/boot/grub/grub.cfg, name the volume c10ed000-0003-4a01-8a01-00000c10ed03 (d1p1) "},
        {"no-config.img", "write d1p1:/boot/grub/grub.cfg anew, with one entry"},
        {"no-signature.img", "write the mark 55 AA at the end of d1's first sector"},
        {"office-pc-ahci-off.img", "let the driver storahci of d1p2 start at boot (Start is 4)"},
        {"office-pc-cloned.img", "in the boot store d1p1:/Boot/BCD, let "},
        {"office-pc-filter-gone.img", "take almsave out of the UpperFilters of disk drives in the registry of d1p2"},
        {"cellar-renamed.img", "in d1p1:/grub/grub.cfg, say root=/dev/mapper/inn2-root instead of "}};
    std::size_t seen = 0;
    for (const auto& stories : {demo::front_desk_disks(), demo::office_pc_disks(), demo::cellar_disks()})
        for (const auto& story : stories) {
            const Machine machine = machine_of(story.make());
            const auto found = mended(machine);
            // Beside a Windows that starts, its recovery environment may not.
            const bool repair = story.name == "office-pc-repair-cut.img";
            EXPECT_EQ(found.empty(), story.stops_at.empty() && !repair) << story.name;
            for (const auto& one : found) {
                EXPECT_NE(one.proposals.empty(), one.bring.empty()) << story.name;
                for (const auto& proposal : one.proposals)
                    EXPECT_NE(after(machine, proposal).find(" yes;"), std::string::npos)
                        << story.name << proposal.title;
            }
            const auto expected = known.find(story.name);
            if (expected == known.end()) continue;
            ++seen;
            ASSERT_FALSE(found.at(0).proposals.empty()) << story.name << ": " << found[0].before.reason;
            EXPECT_TRUE(found[0].proposals[0].title.starts_with(expected->second)) << found[0].proposals[0].title;
        }
    EXPECT_EQ(seen, known.size());
}

/// Every system that does not start has a proven proposal, or a sentence on what would have to be brought.
void expect_an_answer(const Machine& machine, const CheckOptions& options, const std::string& story) {
    const auto verdict = check(machine, options);
    const auto found = mend(machine, verdict, options);
    EXPECT_EQ(found.empty(), verdict.all_start()) << story;
    for (const auto& one : found) {
        EXPECT_NE(one.proposals.empty(), one.bring.empty()) << story;
        for (const auto& proposal : one.proposals) {
            EXPECT_TRUE(std::ranges::any_of(proposal.systems,
                                            [&](const SystemTurn& turn) {
                                                return turn.place == one.place && turn.after &&
                                                       turn.after->starts == Starts::Yes;
                                            }) ||
                        !one.place || !proposal.patch.empty())
                << story << ": " << proposal.title;
            for (const auto& turn : proposal.systems) EXPECT_NE(turn.turn, Turn::Worse) << story << ": " << turn.name;
        }
    }
}

TEST(Mend, TheDemosOtherMachinesToo) {
    for (const auto& stories : {demo::vault_disks(), demo::help_discs()})
        for (const auto& story : stories) expect_an_answer(machine_of(story.make()), {}, story.name);
    for (const auto& story : demo::kiosk_stories()) {
        const auto disk = story.disk();
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        if (story.variables) {
            options.variables = *parse_uefi_flash(story.variables(disk));
            options.variables.source = "kiosk.fd";
        }
        expect_an_answer(machine_of(disk), options, story.name);
    }
    for (const auto& machine : demo::back_office_machines()) {
        std::vector<Bytes> images;
        for (const auto& [name, make] : machine.disks) images.push_back(make());
        expect_an_answer(support::machine_of_disks(std::move(images)), {}, machine.name);
    }
    for (const auto& story : demo::ledger_stories()) {
        auto machine = demo::ledger();
        story.change(machine);
        const auto built = machine.build();
        std::vector<Bytes> disks(built.begin(), built.begin() + static_cast<std::ptrdiff_t>(story.files.size()));
        expect_an_answer(support::machine_of_disks(std::move(disks)), {}, story.name);
    }
    for (const auto& story : demo::station_stories()) {
        std::vector<Bytes> images;
        images.push_back(story.card());
        if (story.second) images.push_back(story.second());
        CheckOptions options;
        options.firmware = FirmwareKind::Board;
        options.board = demo::station_board;
        if (story.flash) options.flash = memory_source(story.flash(), "flash.bin");
        expect_an_answer(support::machine_of_disks(std::move(images)), options, story.name);
    }
}

/// Drivers of disk controllers are known by their group, or by these names; others are none of a start's business.
TEST(Mend, AControllersDriverMayBeTurnedOn) {
    for (const auto& [name, group, offered] : {std::tuple{"storahci", "SCSI Miniport", true},
                                               {"hutctl", "SCSI miniport", true},
                                               {"pciide", "", true},
                                               {"intelide", "", true},
                                               {"stornvme", "", true},
                                               {"storvsc", "", true},
                                               {"hutctl", "", false}}) {
        auto pc = demo::office_pc();
        auto& services = pc.system_hive.child("ControlSet001\\Services");
        std::erase_if(services.children, [](const forge::HiveNode& one) { return one.name == "storahci"; });
        auto& own = services.child(name).number("Type", 1).number("Start", 3).number("ErrorControl", 1);
        if (*group != '\0') own.text("Group", group);
        own.text("ImagePath", std::string("System32\\drivers\\") + name + ".sys", 2);
        pc.windows.file(std::string("/Windows/System32/drivers/") + name + ".sys",
                        pc.windows.at("/Windows/System32/drivers/storahci.sys").content);
        const Machine machine = machine_of(pc.build());
        const auto found = mended(machine);
        ASSERT_EQ(found.size(), 1U) << name;
        EXPECT_EQ(found[0].before.stops_at, Stage::Root) << name;
        const std::string title = std::string("let the driver ") + name + " of d1p2 start at boot (Start is 3)";
        const bool is =
            std::ranges::any_of(found[0].proposals, [&](const Proposal& one) { return one.title == title; });
        EXPECT_EQ(is, offered) << name << group
                               << (found[0].proposals.empty() ? found[0].bring : found[0].proposals[0].title);
    }
}

/// Cylinder, head and sector of an entry: those of 255 heads and 63 sectors, and the last ones from cylinder 1024 on.
TEST(MendTables, EntriesHaveTheirCylinders) {
    const auto machine = machine_of(Bytes(1U << 20U));
    const auto written = [&](const remedy::EntryValues& values, std::uint64_t base = 0) {
        Workshop shop(machine);
        EXPECT_TRUE(remedy::write_entry(shop, 1, 446, values, base));
        return *shop.disk(1)->bytes(446, 16);
    };
    // Sector 63 is head 1; the last of 16065 sectors is the last one of its cylinder.
    EXPECT_EQ(written({0x80, 0x83, 63, 16065 - 63}),
              (Bytes{0x80, 1, 1, 0, 0x83, 254, 63, 0, 63, 0, 0, 0, 0x82, 0x3E, 0, 0}));
    // Cylinder 300: its two highest bits stand beside the sector.
    constexpr std::uint32_t far = 300 * 16065;
    const auto at_300 = written({0, 0x07, far, 1});
    EXPECT_EQ(Bytes(at_300.begin() + 1, at_300.begin() + 8), (Bytes{0, 0x41, 0x2C, 0x07, 0, 0x41, 0x2C}));
    constexpr std::uint32_t last = 1024 * 16065 - 1;
    const auto at_end = written({0, 0x83, last, 1});
    EXPECT_EQ(Bytes(at_end.begin() + 1, at_end.begin() + 4), (Bytes{254, 0xFF, 0xFF}));
    const auto behind = written({0, 0x83, last + 1, 0});
    EXPECT_EQ(Bytes(behind.begin() + 1, behind.begin() + 8), (Bytes{0xFE, 0xFF, 0xFF, 0x83, 0xFE, 0xFF, 0xFF}));
    // A logical partition counts from its own table, and lies where both together say.
    const auto logical = written({0, 0x83, 63, 63}, 16065);
    EXPECT_EQ(Bytes(logical.begin() + 1, logical.begin() + 12), (Bytes{1, 1, 1, 0x83, 1, 63, 1, 63, 0, 0, 0}));
}

/// Beside a partition's begin, up to 64 sectors, a volume is looked for; further away only where volumes usually begin.
TEST(MendTables, VolumesBesideTheirEntryAreFound) {
    forge::ExtOptions options;
    options.size = 4U << 20U;
    options.label = "barn";
    const auto volume = forge::make_ext(forge::Tree().file("/hay", "x"), options);
    for (const auto& [distance, found] :
         {std::pair<int, bool>{-64, true}, {64, true}, {-65, false}, {65, false}, {1, true}}) {
        forge::DiskSpec disk;
        disk.size = 12U << 20U;
        disk.partitions = {{5000, volume, 0x83, true}};
        auto image = forge::make_disk(disk);
        forge::put32(image, 446 + 8, static_cast<std::uint32_t>(5000 + distance));
        const auto machine = machine_of(image);
        const auto unlisted = remedy::find_unlisted(machine.disks[0]);
        EXPECT_EQ(!unlisted.empty(), found) << distance;
        if (!found || unlisted.empty()) continue;
        EXPECT_EQ(unlisted[0].lba, 5000U);
        EXPECT_EQ(unlisted[0].sectors, 8192U);
        EXPECT_EQ(remedy::volume_words(unlisted[0]), "ext4 “barn”");
    }
}

TEST(Mend, NothingMakesOthersWorse) {
    // Two systems: the second one's kernel line is wrong, the first one starts.
    auto office = demo::back_office();
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(office.first(), "d1", 1), 1, "a.img"));
    machine.disks.push_back(inspect_disk(memory_source(office.second(), "d2", 2), 2, "b.img"));
    assemble_layers(machine);
    const auto before = check(machine);
    for (const auto& one : mend(machine, before, {}))
        for (const auto& proposal : one.proposals)
            for (const auto& turn : proposal.systems) {
                EXPECT_NE(turn.turn, Turn::Worse) << proposal.title << ": " << turn.name;
                if (turn.before && turn.before->starts == Starts::Yes)
                    EXPECT_TRUE(turn.after && turn.after->starts == Starts::Yes) << proposal.title << ": " << turn.name;
            }
}

TEST(Mend, AHealthyMachineNeedsNone) { EXPECT_TRUE(mended(machine_of(demo::front_desk().build())).empty()); }

TEST(Mend, WhatIsNotOnTheMachineMustBeBrought) {
    auto desk = demo::front_desk();
    desk.root.at(std::string("/boot/vmlinuz-") + demo::release).content.resize(50000);
    const auto found = mended(machine_of(desk.build()));
    ASSERT_EQ(found.size(), 1U);
    EXPECT_TRUE(found[0].proposals.empty());
    EXPECT_EQ(found[0].before.stops_at, Stage::Kernel);
    EXPECT_EQ(found[0].bring, "the kernel or system loader of the same version, from its package or install medium");
}

TEST(MendTool, WritesPatchUndoAndSteps) {
    const Folder folder;
    auto disk = demo::front_desk().build();
    disk[510] = 0;
    const auto image = folder.write("desk.img", disk);
    const auto tool = [&](const std::string& arguments) {
        return support::shell(std::string("NO_COLOR=1 ") + TOOL_PATH + " mend " + image + " " + arguments);
    };
    const auto text = tool("--patch-to " + folder.file("p.json") + " --undo-to " + folder.file("u.json") +
                           " --steps-to " + folder.file("s.txt"));
    EXPECT_EQ(text.status, 0) << text.out;
    EXPECT_NE(text.out.find("Proposal 1 (proven; 1 byte in 1 place)\n    • write the mark 55 AA"), std::string::npos)
        << text.out;
    const auto patch = nlohmann::json::parse(support::shell("cat " + folder.file("p.json")).out);
    EXPECT_EQ(patch.at("schema"), "herberge/patch/1");
    EXPECT_EQ(patch.at("changes").at(0),
              (nlohmann::json{{"disk", 1}, {"offset", 510}, {"before", "00"}, {"after", "55"}}));
    const auto undo = nlohmann::json::parse(support::shell("cat " + folder.file("u.json")).out);
    EXPECT_EQ(undo.at("changes").at(0).at("after"), "00");
    EXPECT_EQ(
        support::shell("cat " + folder.file("s.txt")).out,
        "1. write the mark 55 AA at the end of d1's first sector\n\nThe bytes that change:\nd1@510+1: 00 becomes 55\n");
    // Files that are there are not replaced unasked.
    EXPECT_EQ(tool("--patch-to " + folder.file("p.json")).status, 2);
    EXPECT_EQ(tool("--replace --patch-to " + folder.file("p.json")).status, 0);
    EXPECT_EQ(tool("--proposal 9 --patch-to " + folder.file("q.json")).status, 1);
    EXPECT_EQ(tool("--patch-to " + folder.file("none/q.json")).status, 2);
    const auto json = nlohmann::json::parse(tool("--format json").out);
    EXPECT_EQ(json.at("schema"), "herberge/mend/1");
    EXPECT_EQ(json.at("systems").at(0).at("proposals").at(0).at("number"), 1);
    EXPECT_EQ(json.at("systems").at(0).at("proposals").at(0).at("cures").at(0), "firmware-nothing-to-start");
    // The patch as a supposition: the machine starts.
    EXPECT_EQ(support::shell(std::string(TOOL_PATH) + " suppose " + image + " --patch " + folder.file("p.json")).status,
              0);
    EXPECT_EQ(support::shell("cmp " + image + " " + folder.write("again.img", disk)).status, 0);
}

TEST(ApplyTool, WritesACopyAndNeverTheImage) {
    const Folder folder;
    auto disk = demo::front_desk().build();
    const auto sound = disk;
    disk[510] = 0;
    const auto image = folder.write("desk.img", disk);
    const auto tool = [&](const std::string& arguments) {
        return support::shell(std::string("NO_COLOR=1 ") + TOOL_PATH + " " + arguments);
    };
    const auto patch = folder.file("p.json");
    ASSERT_EQ(tool("mend " + image + " --patch-to " + patch).status, 0);
    const std::string apply = "apply " + image + " --patch " + patch + " --to ";
    // A copy that is made for it.
    const auto made = tool(apply + folder.file("new.img"));
    EXPECT_EQ(made.status, 0) << made.out;
    EXPECT_EQ(support::file_bytes(folder.file("new.img")), sound);
    EXPECT_EQ(tool("check " + folder.file("new.img")).status, 0);
    // One that is there, with a way back.
    const auto copy = folder.write("copy.img", disk);
    const auto changed = tool(apply + copy);
    EXPECT_EQ(changed.status, 0) << changed.out;
    EXPECT_EQ(changed.out, copy + ": changed; " + copy + ".undo.json takes it back\n");
    EXPECT_EQ(support::file_bytes(copy), sound);
    EXPECT_EQ(tool("apply " + copy + " --patch " + copy + ".undo.json --to " + folder.file("back.img")).status, 0);
    EXPECT_EQ(support::file_bytes(folder.file("back.img")), disk);
    // Once more: it is no copy any more.
    const auto twice = tool(apply + copy);
    EXPECT_EQ(twice.status, 2);
    EXPECT_NE(twice.out.find("is no copy: at byte 510"), std::string::npos) << twice.out;
    EXPECT_EQ(support::file_bytes(image), disk);
}

TEST(ApplyTool, RefusesWhatIsNotACopy) {
    const Folder folder;
    auto disk = demo::front_desk().build();
    disk[510] = 0;
    const auto image = folder.write("desk.img", disk);
    const auto tool = [&](const std::string& arguments) {
        return support::shell(std::string(TOOL_PATH) + " " + arguments);
    };
    const auto patch = folder.file("p.json");
    ASSERT_EQ(tool("mend " + image + " --patch-to " + patch).status, 0);
    const std::string apply = "apply " + image + " --patch " + patch + " --to ";
    std::filesystem::create_symlink(image, folder.file("link.img"));
    std::filesystem::create_hard_link(image, folder.file("hard.img"));
    for (const auto& same : {image, folder.file("link.img"), folder.file("hard.img")})
        EXPECT_NE(tool(apply + same).out.find("is the image"), std::string::npos) << same;
    const auto shorter = folder.write("short.img", Bytes(disk.begin(), disk.end() - 512));
    EXPECT_NE(tool(apply + shorter).out.find("is no copy: it has"), std::string::npos);
    EXPECT_NE(tool(apply + "/dev/null").out.find("is neither a file nor a disk"), std::string::npos);
    EXPECT_NE(tool(apply + folder.file("none/new.img")).status, 0);
    EXPECT_NE(tool(apply + folder.file("a.img") + " --to " + folder.file("b.img")).out.find("as many --to are needed"),
              std::string::npos);
    // A patch that is cut, and one for another disk: nothing is written.
    const auto whole = support::file_bytes(patch);
    const auto cut = folder.write("cut.json", Bytes(whole.begin(), whole.end() - 9));
    EXPECT_EQ(tool("apply " + image + " --patch " + cut + " --to " + folder.file("n.img")).status, 2);
    auto other = demo::back_office().first();
    EXPECT_EQ(tool("apply " + folder.write("other.img", other) + " --patch " + patch + " --to " + folder.file("n.img"))
                  .status,
              2);
    EXPECT_FALSE(std::filesystem::exists(folder.file("n.img")));
    // A disk that is full: no half-written copy is left.
    const auto full = support::shell("d=$(mktemp -d) && mount -t tmpfs -o size=64k none $d 2>/dev/null && (" +
                                     std::string(TOOL_PATH) + " " + apply + "$d/x.img; ls $d; umount $d)");
    if (full.status == 0) EXPECT_NE(full.out.find("could not be written"), std::string::npos) << full.out;
    EXPECT_EQ(support::file_bytes(image), disk);
}
