// SPDX-License-Identifier: MIT
// systemd-boot's menu: order by versions, counters of tries, entries of other kinds, what its configuration says of
// waiting.
#include "kiosk.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;

/// The kiosk with entries of type 1 instead of its unified image.
struct Entries {
    demo::Kiosk parts = demo::kiosk();
    Entries() {
        parts.esp.remove("/EFI/Linux");
        auto desk = demo::front_desk();
        parts.esp.file("/linux", forge::with_efi_stub(desk.root.at(kernel).content));
        parts.esp.file("/initrd", forge::gzip(forge::make_cpio(desk.ramdisk)));
        parts.esp.file("/loader/loader.conf", "timeout 3\n");
    }
    static std::string body() {
        return std::string("linux /linux\ninitrd /initrd\noptions root=UUID=") + demo::kiosk_uuid + " ro\n";
    }
    Entries& add(const std::string& file, const std::string& text) {
        parts.esp.file("/loader/entries/" + file, text);
        return *this;
    }
    Entries& configuration(const std::string& text) {
        parts.esp.file("/loader/loader.conf", text);
        return *this;
    }
};
struct Walked {
    Machine machine;
    Verdict verdict;
    explicit Walked(const Entries& entries) : machine(support::machine_of(entries.parts.build())) {
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        verdict = check(machine, options);
    }
    [[nodiscard]] const Menu& menu() const { return verdict.menus.at(0); }
    [[nodiscard]] std::vector<std::string> titles() const {
        std::vector<std::string> out;
        for (const auto& entry : menu().entries) out.push_back(entry.title);
        return out;
    }
};

/// The order of the UAPI group's version format specification, from the oldest on, each in a file whose name says
/// nothing of it.
TEST(SystemdBootMenu, NewestVersionsComeFirst) {
    const std::vector<std::string> versions = {"122.1",   "123~rc1-1", "123",     "123-a",   "123-a.1", "123-1",
                                               "123-1.1", "123^post1", "123.a-1", "123.1-1", "123a-1",  "124-1"};
    Entries entries;
    for (std::size_t i = 0; i < versions.size(); ++i)
        entries.add("room" + std::to_string((i * 7) % versions.size() + 10) + ".conf",
                    "title " + versions[i] + "\nsort-key inn\nversion " + versions[i] + "\n" + Entries::body());
    const Walked walked(entries);
    auto newest_first = versions;
    std::ranges::reverse(newest_first);
    EXPECT_EQ(walked.titles(), newest_first);
    EXPECT_EQ(walked.verdict.systems.at(0).entry, "124-1");
}

TEST(SystemdBootMenu, SortKeysThenMachinesThenVersionsThenNames) {
    Entries entries;
    const auto entry = [&](const std::string& file, const std::string& title, const std::string& more) {
        entries.add(file, "title " + title + "\n" + more + Entries::body());
    };
    entry("b.conf", "no key, b", "version 1\n");
    entry("c.conf", "no key, c", "version 0\n");
    entry("1.conf", "key b", "sort-key b\n");
    entry("2.conf", "key a, machine 2", "sort-key a\nmachine-id 22222222222222222222222222222222\nversion 9\n");
    entry("3.conf", "key a, machine 1, old",
          "sort-key a\nmachine-id 11111111111111111111111111111111\nversion 6.1.9\n");
    entry("4.conf", "key a, machine 1, new",
          "sort-key a\nmachine-id 11111111111111111111111111111111\nversion 6.1.10\n");
    entry("5.conf", "key b, same version", "sort-key b\n");
    EXPECT_EQ(Walked(entries).titles(),
              (std::vector<std::string>{"key a, machine 1, new", "key a, machine 1, old", "key a, machine 2",
                                        "key b, same version", "key b", "no key, c", "no key, b"}));
}

TEST(SystemdBootMenu, EntriesWithoutTriesLeftComeLast) {
    Entries entries;
    entries.add("zugspitze+0-3.conf", "title used up\n" + Entries::body());
    entries.add("almhof+2-1.conf", "title two left\n" + Entries::body());
    entries.add("berghof.conf", "title not counted\n" + Entries::body());
    entries.add("cellar+x.conf", "title no number\n" + Entries::body());
    entries.configuration("default almhof.conf\ntimeout 0\n");
    const Walked walked(entries);
    EXPECT_EQ(walked.titles(), (std::vector<std::string>{"no number", "not counted", "two left", "used up"}));
    EXPECT_EQ(walked.menu().default_entry, 0) << "the counter is a part of the name";
    EXPECT_FALSE(walked.menu().default_matches);
    EXPECT_EQ(walked.verdict.systems.at(0).entry, "no number");
    // One that is asked for starts, also without tries left.
    for (const auto& [asked, title] : {std::pair{"almhof+2-1.conf", "two left"}, std::pair{"almhof*", "two left"},
                                       std::pair{"ZUGSPITZE+0-3.conf", "used up"}}) {
        entries.configuration(std::string("default ") + asked + "\ntimeout 0\n");
        const Walked other(entries);
        EXPECT_TRUE(other.menu().default_matches) << asked;
        EXPECT_EQ(other.verdict.systems.at(0).entry, title);
        EXPECT_TRUE(other.verdict.systems.at(0).entry_is_default);
    }
}

TEST(SystemdBootMenu, FilesCalledAsItsOwnEntriesAreNoneOfIts) {
    Entries entries;
    entries.add("auto-almhof.conf", "title not listed\n" + Entries::body());
    entries.add("AUTO-inn.conf", "title not listed\n" + Entries::body());
    entries.add("autumn.conf", "title Autumn\n" + Entries::body());
    entries.configuration("default auto-almhof.conf\ntimeout 0\n");
    const Walked walked(entries);
    EXPECT_EQ(walked.titles(), std::vector<std::string>{"Autumn"});
    EXPECT_EQ(walked.verdict.systems.at(0).entry, "Autumn");
    EXPECT_FALSE(walked.menu().default_matches);
}

TEST(SystemdBootMenu, TreesOfDevicesDoNotStartOnAPc) {
    for (const bool there : {false, true}) {
        Entries entries;
        entries.add("a.conf", "title Almhof\ndevicetree /inn.dtb\n" + Entries::body());
        if (there) entries.parts.esp.file("/inn.dtb", "tree");
        const Walked walked(entries);
        const auto& system = walked.verdict.systems.at(0);
        EXPECT_EQ(system.stops_at, Stage::Entry);
        EXPECT_EQ(system.at(Stage::Entry).findings, std::vector<Code>{Code::EntryLoadsNothing});
        EXPECT_EQ(system.symptom, "Error loading \\inn.dtb: Unsupported");
        EXPECT_EQ(system.at(Stage::Kernel).state, State::NotReached);
    }
}

TEST(SystemdBootMenu, WaitsWhereItIsToldTo) {
    Entries entries;
    entries.add("a.conf", "title Almhof\n" + Entries::body());
    entries.configuration("timeout menu-force\n");
    const Walked walked(entries);
    EXPECT_EQ(walked.verdict.systems.at(0).waits_for, "a choice");
    EXPECT_FALSE(walked.verdict.systems.at(0).entry_is_default);
    EXPECT_EQ(walked.verdict.systems.at(0).starts, Starts::Yes);
}

TEST(SystemdBootMenu, OtherKindsOfEntries) {
    Entries entries;
    entries.add("a.conf", "title Almhof\n" + Entries::body());
    entries.add("tool.conf", "title A tool\nefi /EFI/tool.efi\n");
    entries.parts.esp.file("/EFI/tool.efi", forge::make_efi_application());
    entries.parts.esp.file("/EFI/Microsoft/Boot/bootmgfw.efi", forge::make_efi_application());
    const Walked walked(entries);
    EXPECT_EQ(walked.titles(), (std::vector<std::string>{"A tool", "Almhof", "Windows Boot Manager"}));
    EXPECT_EQ(walked.menu().entries[0].kind, EntryKind::Chainload);
    EXPECT_EQ(walked.menu().entries[2].kind, EntryKind::Chainload);
    EXPECT_EQ(walked.menu().entries[2].id, "auto-windows");
}

TEST(SystemdBootMenu, ARamdiskThatIsNotThereEndsTheEntry) {
    Entries entries;
    entries.add("a.conf",
                std::string("title Almhof\nlinux /linux\ninitrd /gone\noptions root=UUID=") + demo::kiosk_uuid + "\n");
    const Walked walked(entries);
    const auto& system = walked.verdict.systems.at(0);
    ASSERT_TRUE(system.stops_at);
    EXPECT_EQ(*system.stops_at, Stage::Ramdisk);
    EXPECT_NE(system.symptom.find("Error preparing initrd: Not Found"), std::string::npos) << system.symptom;
    EXPECT_NE(system.at(Stage::Ramdisk).text.find("/gone"), std::string::npos) << system.at(Stage::Ramdisk).text;
}

TEST(SystemdBootMenu, HowLongItWaits) {
    const struct {
        const char* says;
        std::optional<int> seconds;
        bool shown;
    } rows[] = {{"timeout 0\n", 0, false},
                {"", 0, false},
                {"timeout 7\n", 7, true},
                {"timeout menu-force\n", std::nullopt, true}};
    for (const auto& row : rows) {
        Entries entries;
        entries.add("a.conf", "title Almhof\n" + Entries::body()).configuration(row.says);
        const Walked walked(entries);
        EXPECT_EQ(walked.menu().timeout, row.seconds) << row.says;
        EXPECT_EQ(walked.menu().style == MenuStyle::Menu, row.shown) << row.says;
    }
}

}  // namespace
