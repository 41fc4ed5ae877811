// SPDX-License-Identifier: MIT
// What the lines of a menu mean: GRUB Legacy, SYSLINUX and GRUB 2, each case as a real machine took it
// (conformance/faults/ menus.faults, scripts.faults).
#include "desks.hpp"

using namespace herberge;
using support::Bytes;
using support::guests_lines;
using support::ledger_commands;

namespace {

/// What becomes of a menu: the stage of the stop or "yes"; the entry; whether it starts by itself, or what it waits
/// for; the stop's code and the last line of its screen.
struct Meaning {
    const char* name;
    std::string menu;
    std::string stage, entry;
    const char* waits_for = "";
    std::optional<Code> code = std::nullopt;
    const char* screen = "";
    std::function<void(forge::Tree&)> more;
};

std::string last_line(const std::string& text) { return text.substr(text.rfind('\n') + 1); }

void expect(const support::Checked& checked, const Meaning& m) {
    ASSERT_FALSE(checked.verdict.systems.empty());
    const auto& system = checked.system();
    EXPECT_EQ(checked.stage(), m.stage);
    EXPECT_EQ(system.entry, m.entry);
    EXPECT_EQ(system.waits_for, m.waits_for);
    EXPECT_EQ(system.entry_is_default, system.waits_for.empty() && !m.entry.empty());
    const auto broken = std::ranges::find(system.stages, State::Breaks, &StageState::state);
    EXPECT_EQ(broken != system.stages.end(), m.code.has_value());
    if (m.code && broken != system.stages.end()) {
        EXPECT_EQ(broken->findings.front(), *m.code);
        EXPECT_FALSE(broken->evidence.empty());
        for (auto stage = broken + 1; stage != system.stages.end(); ++stage)
            EXPECT_EQ(stage->state, State::NotReached) << stage_id(stage->stage);
    }
    EXPECT_EQ(last_line(system.symptom), m.screen) << system.symptom;
}

// --- GRUB Legacy ----------------------------------------------------------------------------------------------------

const std::string ledger = "title Ledger\n" + ledger_commands;
const std::string second = "title Second\n" + ledger_commands;
const std::string gone =
    "title Gone\nroot (hd0,0)\nkernel /boot/none root=UUID=" + std::string(demo::ledger_uuid) + "\n";
const std::string top = "default 0\ntimeout 5\n";

std::string replaced(std::string text, const std::string& what, const std::string& by) {
    text.replace(text.find(what), what.size(), by);
    return text;
}
std::string in_entry(const std::string& line) { return top + "title Ledger\n" + line + "\n" + ledger_commands; }

class LegacyMenus : public testing::TestWithParam<Meaning> {};
TEST_P(LegacyMenus, MeanWhatTheLoaderTakesThemFor) {
    expect(support::Checked(support::legacy_desk_with(GetParam().menu, GetParam().more)), GetParam());
}
INSTANTIATE_TEST_SUITE_P(
    Lines, LegacyMenus,
    testing::Values(Meaning{"AsItIs", top + ledger + second, "yes", "Ledger"},
                    Meaning{"NoTimeWaits", "default 0\n" + ledger, "yes", "Ledger", "a choice"},
                    Meaning{"HexadecimalDefaultBehindTabs", "default\t\t0x1\ntimeout 5\n" + gone + ledger, "yes",
                            "Ledger"},
                    Meaning{"DefaultBehindAnEqualsSign", "default=1\ntimeout=5\n" + gone + ledger, "yes", "Ledger"},
                    Meaning{"DefaultThatIsNoNumberIsTheFirst", "default first\ntimeout 5\n" + ledger + gone, "yes",
                            "Ledger"},
                    Meaning{"SavedDefaultOfNoneIsTheFirst", "default saved\ntimeout 5\n" + ledger + gone, "yes",
                            "Ledger"},
                    Meaning{"DefaultBeyondTheList", "default 2\nfallback 1\ntimeout 5\n" + gone + ledger, "yes",
                            "Ledger"},
                    Meaning{"DefaultBeyondTheListWithoutFallback", "default 2\ntimeout 5\n" + ledger + gone, "yes",
                            "Ledger"},
                    Meaning{"FallbackBeyondTheListIsPassedOver", "default 0\nfallback 7 1\ntimeout 5\n" + gone + ledger,
                            "yes", "Ledger"},
                    Meaning{"FallbackThatFails", "default 0\nfallback 0\ntimeout 5\n" + gone, "entry", "Gone", "",
                            Code::EntryKernelMissing, "Press any key to continue..."},
                    // A misspelt command is skipped when the menu is read, above the entries and within them.
                    Meaning{"UnknownCommandAbove", top + "sweep friday\n" + ledger, "yes", "Ledger"},
                    Meaning{"UnknownCommandWithin", in_entry("sweep friday"), "yes", "Ledger"},
                    Meaning{"CapitalsAreUnknown", in_entry("TITLE Other"), "yes", "Ledger"},
                    Meaning{"MisspeltKernelLeavesNothing", top + replaced(ledger, "kernel ", "kennel "), "entry", "",
                            "", Code::EntryNoneForSystem, "(the system is missing from the menu)"},
                    Meaning{"CommentsWithin", in_entry("# swept"), "yes", "Ledger"},
                    Meaning{"ColourWithin", in_entry("color cyan/blue"), "yes", "Ledger"},
                    Meaning{"SettingOfTheMenuWithinEndsTheEntry", top + ledger + "timeout 5\n", "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"DefaultWithinEndsTheEntry", in_entry("default 1"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"TitleWithoutCommandsIsNoEntry", "default 1\ntimeout 5\ntitle ---\n" + gone + ledger, "yes",
                            "Ledger"},
                    Meaning{"LastTitleWithoutCommandsIsNoEntry",
                            "default 1\nfallback 0\ntimeout 5\n" + ledger + "title ---\n", "yes", "Ledger"},
                    Meaning{"LineThatGoesOn", top + replaced(ledger, " ro\n", " \\\nro\n"), "yes", "Ledger"},
                    Meaning{"LinesOfAnotherSystem",
                            "default 0\r\ntimeout 5\r\n" + replaced(ledger, "root (hd0,0)\n", "root (hd0,0)\r\n"),
                            "yes", "Ledger"},
                    Meaning{"CommandsBehindBoot", top + ledger + "boot\ntimeout 5\n", "yes", "Ledger"},
                    // Places.
                    Meaning{"RootIsWhereItWasStarted", top + replaced(ledger, "root (hd0,0)\n", ""), "yes", "Ledger"},
                    Meaning{"RootThatIsNotLookedAt", top + replaced(ledger, "root (", "rootnoverify ("), "yes",
                            "Ledger"},
                    Meaning{"DiskAlone", top + replaced(ledger, "(hd0,0)", "(hd0)"), "entry", "Ledger", "",
                            Code::EntryKernelMissing, "Press any key to continue..."},
                    Meaning{"NumberThatIsNone", top + replaced(ledger, "(hd0,0)", "(hd0,first)"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"NameOfLinux", top + replaced(ledger, "(hd0,0)", "(sda,0)"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"PartitionThatThereIsNot", top + replaced(ledger, "(hd0,0)", "(hd0,4)"), "entry", "Ledger",
                            "", Code::EntryDeviceMissing, "Press any key to continue..."},
                    Meaning{"DiskThatThereIsNot", top + replaced(ledger, "(hd0,0)", "(hd1,0)"), "entry", "Ledger", "",
                            Code::EntryDeviceMissing, "Press any key to continue..."},
                    Meaning{"KernelWithItsPartition", top + replaced(ledger, "kernel ", "kernel (hd0,0)"), "yes",
                            "Ledger"},
                    Meaning{"KernelWithAPartitionThatThereIsNot", top + replaced(ledger, "kernel ", "kernel (hd0,7)"),
                            "entry", "Ledger", "", Code::EntryDeviceMissing, "Press any key to continue..."},
                    Meaning{"KernelWithoutItsStroke", top + replaced(ledger, "kernel /", "kernel "), "entry", "Ledger",
                            "", Code::EntryKernelMissing, "Press any key to continue..."},
                    Meaning{"KernelIsAFolder", top + replaced(ledger, support::today_kernel, "/boot/grub"), "entry",
                            "Ledger", "", Code::EntryKernelMissing, "Press any key to continue..."},
                    Meaning{"UuidIsUnknownToThisBuild",
                            top + replaced(ledger, "root (hd0,0)", "uuid deadbeef-0000-4000-8000-000000000001"), "yes",
                            "Ledger"},
                    Meaning{"UuidOfABuildThatHasIt",
                            top + replaced(ledger, "root (hd0,0)", std::string("uuid ") + demo::ledger_uuid),
                            "yes",
                            "Ledger",
                            "",
                            {},
                            "",
                            [](forge::Tree& tree) {
                                tree.at("/boot/grub/stage2")
                                    .content.insert(tree.at("/boot/grub/stage2").content.end(),
                                                    {0, 'u', 'u', 'i', 'd', 0});
                            }},
                    Meaning{"UuidThatThereIsNotOfABuildThatHasIt",
                            top + replaced(ledger, "root (hd0,0)", "uuid deadbeef-0000-4000-8000-000000000001"),
                            "entry", "Ledger", "", Code::EntryDeviceMissing, "Press any key to continue...",
                            [](forge::Tree& tree) {
                                tree.at("/boot/grub/stage2")
                                    .content.insert(tree.at("/boot/grub/stage2").content.end(),
                                                    {0, 'u', 'u', 'i', 'd', 0});
                            }},
                    // What is loaded.
                    Meaning{"ModuleBehindALinuxKernelIsItsRamdisk", top + replaced(ledger, "initrd ", "module "), "yes",
                            "Ledger"},
                    Meaning{"ModuleBeforeTheKernel", in_entry("module /boot/none"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"RamdiskBeforeTheKernel", in_entry("initrd /boot/none"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"KernelSaidToBeBig", top + replaced(ledger, "kernel ", "kernel --type=biglinux "), "yes",
                            "Ledger"},
                    Meaning{"KernelSaidToBeSmall", top + replaced(ledger, "kernel ", "kernel --type=linux "), "kernel",
                            "Ledger", "", Code::KernelRefusedByLoader, "Press any key to continue..."},
                    Meaning{"KernelSaidToBeAnothers", top + replaced(ledger, "kernel ", "kernel --type=netbsd "),
                            "kernel", "Ledger", "", Code::KernelRefusedByLoader, "Press any key to continue..."},
                    Meaning{"OptionOfTheKernel", top + replaced(ledger, "kernel ", "kernel --no-mem-option "), "yes",
                            "Ledger"},
                    // Passwords.
                    Meaning{"LockWithoutAPassword", in_entry("lock"), "yes", "Ledger"},
                    Meaning{"LockWithAPassword", replaced(in_entry("lock"), "timeout", "password enzian\ntimeout"),
                            "yes", "Ledger", "a password"},
                    Meaning{"PasswordOfTheMenuAlone", "password enzian\n" + top + ledger, "yes", "Ledger"},
                    Meaning{"PasswordOfTheEntry", in_entry("password enzian"), "yes", "Ledger", "a password"},
                    // What writes.
                    Meaning{"SavesItselfNowhere", in_entry("savedefault"), "entry", "Ledger", "",
                            Code::EntryLoadsNothing, "Press any key to continue..."},
                    Meaning{"SavesItself",
                            in_entry("savedefault"),
                            "yes",
                            "Ledger",
                            "",
                            {},
                            "",
                            [](forge::Tree& tree) { tree.file("/boot/grub/default", "0\n\n\n\n\n\n\n\n\n\n"); }},
                    // Other menus, other loaders.
                    Meaning{"AnotherMenu",
                            top + "title More\nroot (hd0,0)\nconfigfile /boot/grub/more.lst\n",
                            "yes",
                            "Ledger",
                            "",
                            {},
                            "",
                            [](forge::Tree& tree) { tree.file("/boot/grub/more.lst", top + ledger); }},
                    Meaning{"AnotherMenuThatWaits",
                            top + "title More\nroot (hd0,0)\nconfigfile /boot/grub/more.lst\n",
                            "yes",
                            "Ledger",
                            "",
                            {},
                            "",
                            [](forge::Tree& tree) { tree.file("/boot/grub/more.lst", top + ledger); }}),
    support::by_name);

// --- SYSLINUX -------------------------------------------------------------------------------------------------------

const std::string guests = "LABEL guests\n" + guests_lines;
const std::string strays =
    "LABEL strays\n  LINUX /stray-kernel\n  APPEND root=UUID=" + std::string(demo::guests_uuid) + "\n";
const std::string append = std::string("APPEND root=UUID=") + demo::guests_uuid + " ro initrd=/guest-ramdisk.img\n";

class SyslinuxMenus : public testing::TestWithParam<Meaning> {};
TEST_P(SyslinuxMenus, MeanWhatTheLoaderTakesThemFor) {
    expect(support::Checked(support::guests_desk_with(GetParam().menu, GetParam().more)), GetParam());
}
INSTANTIATE_TEST_SUITE_P(
    Lines, SyslinuxMenus,
    testing::Values(
        Meaning{"AsItIs", "DEFAULT guests\n" + guests + strays, "yes", "guests"},
        Meaning{"LastDefaultCounts", "DEFAULT strays\nDEFAULT guests\n" + guests + strays, "yes", "guests"},
        Meaning{"CapitalsNameNothing", "DEFAULT GUESTS\n" + guests, "configuration", "", "",
                Code::SyslinuxDefaultUnknown, "boot:"},
        Meaning{"WordsBehindTheDefault", "DEFAULT guests quiet\n" + guests, "yes", "guests"},
        Meaning{"FileAsDefault",
                "DEFAULT /guest-kernel root=UUID=" + std::string(demo::guests_uuid) + " initrd=/guest-ramdisk.img\n",
                "yes", "/guest-kernel root=UUID=" + std::string(demo::guests_uuid) + " initrd=/guest-ramdisk.img"},
        Meaning{"FileAsDefaultThatMayNot", "IMPLICIT 0\nDEFAULT /guest-kernel\n" + guests, "configuration", "", "",
                Code::SyslinuxDefaultUnknown, "boot:"},
        Meaning{"LabelIsItsKernel", "DEFAULT guest-kernel\nLABEL guest-kernel\n" + append, "entry", "guest-kernel", "",
                Code::EntryKernelMissing, "boot:"},
        Meaning{
            "LabelIsItsKernelFromTheMenusFolder",
            "DEFAULT guest-kernel\nLABEL guest-kernel\n" + append,
            "yes",
            "guest-kernel",
            "",
            {},
            "",
            [](forge::Tree& tree) { tree.file("/SYSLINUX/guest-kernel", Bytes(tree.at("/guest-kernel").content)); }},
        // Settings for all labels.
        Meaning{"WordsForAll", append + "DEFAULT guests\nLABEL guests\nLINUX /guest-kernel\n", "yes", "guests"},
        Meaning{"RamdiskForAllIsForNone",
                "INITRD /guest-ramdisk.img\nDEFAULT guests\n" + replaced(guests, "  INITRD /guest-ramdisk.img\n", ""),
                "ramdisk", "guests", "", Code::RamdiskNotNamed,
                "---[ end Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0) ]---"},
        Meaning{"TwoRamdisks",
                "DEFAULT guests\n" +
                    replaced(guests, "INITRD /guest-ramdisk.img", "INITRD /guest-ramdisk.img,/guest-ramdisk.img"),
                "yes", "guests"},
        Meaning{
            "SecondRamdiskGone",
            "DEFAULT guests\n" + replaced(guests, "INITRD /guest-ramdisk.img", "INITRD /guest-ramdisk.img,/more.img"),
            "ramdisk", "guests", "", Code::RamdiskMissing, "boot:"},
        Meaning{"RamdiskInTheWordsWins", "DEFAULT guests\n" + replaced(guests, " ro\n", " ro initrd=/none.img\n"),
                "ramdisk", "guests", "", Code::RamdiskMissing, "boot:"},
        Meaning{"RamdiskOfTheKeywordDoesNotMatterThen",
                "DEFAULT guests\n" + replaced(replaced(guests, "INITRD /guest-ramdisk.img", "INITRD /none.img"),
                                              " ro\n", " ro initrd=/guest-ramdisk.img\n"),
                "yes", "guests"},
        // The prompt and its time.
        Meaning{"PromptThatWaits", "PROMPT 1\nDEFAULT guests\n" + guests, "yes", "guests", "a choice"},
        Meaning{"PromptWithATime", "PROMPT 1\nTIMEOUT 50\nDEFAULT guests\n" + guests, "yes", "guests"},
        Meaning{"PromptWithATimeForAll", "PROMPT 1\nTOTALTIMEOUT 50\nDEFAULT guests\n" + guests, "yes", "guests"},
        Meaning{"AnotherCommandForTheTimesEnd",
                "PROMPT 1\nTIMEOUT 50\nONTIMEOUT guests\nDEFAULT strays\n" + guests + strays, "yes", "guests"},
        Meaning{"AnotherCommandWithoutAPrompt",
                "PROMPT 0\nTIMEOUT 50\nONTIMEOUT strays\nDEFAULT guests\n" + guests + strays, "yes", "guests"},
        // Other files.
        Meaning{"IncludedMenu",
                "INCLUDE more.cfg\n",
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) { tree.file("/SYSLINUX/more.cfg", "DEFAULT guests\n" + guests); }},
        Meaning{"IncludedByTheMenusWord",
                "MENU INCLUDE more.cfg\n",
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) { tree.file("/SYSLINUX/more.cfg", "DEFAULT guests\n" + guests); }},
        Meaning{"IncludeThatIsNotThere", "INCLUDE none.cfg\nDEFAULT guests\n" + guests, "yes", "guests"},
        Meaning{"OtherConfiguration",
                "DEFAULT more\nLABEL more\n  CONFIG more.cfg\n",
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) { tree.file("/SYSLINUX/more.cfg", "DEFAULT guests\n" + guests); }},
        Meaning{"OtherConfigurationKeepsTheFolder",
                "DEFAULT more\nLABEL more\n  CONFIG /more/x.cfg\n",
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) {
                    tree.file("/more/x.cfg", "DEFAULT guests\n" + replaced(guests, "/guest-kernel", "own-kernel"));
                    tree.file("/SYSLINUX/own-kernel", Bytes(tree.at("/guest-kernel").content));
                }},
        Meaning{"OtherConfigurationWithItsFolder",
                "DEFAULT more\nLABEL more\n  CONFIG /more/x.cfg /more\n",
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) {
                    tree.file("/more/x.cfg", "DEFAULT guests\n" + replaced(guests, "/guest-kernel", "own-kernel"));
                    tree.file("/more/own-kernel", Bytes(tree.at("/guest-kernel").content));
                }},
        Meaning{"OtherConfigurationWithoutItsFolder", "DEFAULT more\nLABEL more\n  CONFIG /more/x.cfg\n", "entry",
                "guests", "", Code::EntryKernelMissing, "boot:",
                [](forge::Tree& tree) {
                    tree.file("/more/x.cfg", "DEFAULT guests\n" + replaced(guests, "/guest-kernel", "own-kernel"));
                    tree.file("/more/own-kernel", Bytes(tree.at("/guest-kernel").content));
                }},
        // Kinds of kernels, by their names.
        Meaning{"KernelCalledAFloppyDisk",
                "DEFAULT guests\n" + replaced(guests, "LINUX /guest-kernel", "KERNEL /guest.img"),
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) { tree.file("/guest.img", Bytes(tree.at("/guest-kernel").content)); }},
        Meaning{"KernelCalledASectorByLinux",
                "DEFAULT guests\n" + replaced(guests, "LINUX /guest-kernel", "LINUX /guest.bin"),
                "yes",
                "guests",
                "",
                {},
                "",
                [](forge::Tree& tree) { tree.file("/guest.bin", Bytes(tree.at("/guest-kernel").content)); }},
        // Lines of menus, which this loader passes over without one.
        Meaning{"WordsOfAMenu",
                "MENU TITLE the inn\nMENU HIDDEN\nDEFAULT guests\n" +
                    replaced(guests, "LABEL guests\n", "LABEL guests\nMENU LABEL ^Guests\nMENU DEFAULT\nMENU HIDE\n"),
                "yes", "Guests"},
        Meaning{"TextOfHelp",
                "DEFAULT guests\n" +
                    replaced(guests, "LABEL guests\n", "LABEL guests\nTEXT HELP\nLINUX /none\nDEFAULT none\nENDTEXT\n"),
                "yes", "guests"},
        Meaning{"OptionsOfThePrompt", "NOESCAPE 1\nALLOWOPTIONS 0\nSAY the inn opens\nDEFAULT guests\n" + guests, "yes",
                "guests"},
        Meaning{"LinesOfAnotherSystem", "DEFAULT guests\r\n" + replaced(guests, "LABEL guests\n", "LABEL guests\r\n"),
                "yes", "guests"}),
    support::by_name);

/// What chain.c32 and LOCALBOOT start: a volume's or a disk's first sector.
struct Onward {
    const char* name;
    std::string lines;
    std::string place;  ///< empty: nothing
    std::optional<Code> stop = std::nullopt;
    std::string said;
};
class SyslinuxOnward : public testing::TestWithParam<Onward> {};
TEST_P(SyslinuxOnward, LeadsToThatSector) {
    const support::Checked checked(
        support::guests_desk_with("DEFAULT on\nLABEL on\n" + GetParam().lines + guests, [](forge::Tree& tree) {
            tree.file("/SYSLINUX/chain.c32", "a module");
            tree.file("/SYSLINUX/tool.c32", "a module");
            tree.file("/SYSLINUX/other.bs", support::whole_sector({0xEB, 0xFE}));
        }));
    const auto menu = std::ranges::find(checked.verdict.menus, std::string("SYSLINUX"), &Menu::loader);
    ASSERT_NE(menu, checked.verdict.menus.end());
    const auto& entry = menu->entries.at(0);
    EXPECT_EQ(menu->default_entry, 0);
    EXPECT_EQ(entry.chain.has_value(), !GetParam().place.empty());
    EXPECT_EQ(entry.kernel_loaded, !GetParam().place.empty());
    if (entry.chain) {
        EXPECT_EQ(entry.kind, EntryKind::Chainload);
        EXPECT_EQ(entry.chain->place, GetParam().place);
        ASSERT_TRUE(entry.chain->code);
        EXPECT_EQ(entry.chain->code->disk, 1);
    }
    EXPECT_EQ(entry.stop ? std::optional(entry.stop->code) : std::nullopt, GetParam().stop);
    EXPECT_EQ(entry.messages.empty() ? std::string() : entry.messages.front().text, GetParam().said);
}
Onward chain(const char* name, const std::string& target, const std::string& place) {
    return {name, "COM32 chain.c32\nAPPEND " + target + "\n", place, std::nullopt, {}};
}
Onward lost(const char* name, const std::string& target) {
    return {name,
            "COM32 chain.c32\nAPPEND " + target + "\n",
            {},
            Code::EntryDeviceMissing,
            "Unable to find requested disk or partition"};
}
INSTANTIATE_TEST_SUITE_P(
    Targets, SyslinuxOnward,
    testing::Values(
        chain("DiskAndPartition", "hd0 2", "d1p2"), chain("DiskCommaPartition", "hd0,1", "d1p1"),
        chain("Disk", "hd0", "d1"), chain("DiskInHexadecimal", "hd0x0 1", "d1p1"),
        chain("WhereItStarted", "boot 2", "d1p2"), chain("WhereItStartedWhole", "boot", "d1"),
        chain("ItsOwnVolume", "fs", "d1p1"), chain("ByLabel", "label=GUESTS", "d1p1"),
        chain("OptionsBehind", "hd0 1 swap", "d1p1"), lost("DiskThatThereIsNot", "hd1 1"),
        lost("PartitionThatThereIsNot", "hd0 7"), lost("LabelThatThereIsNot", "label=STOVES"),
        lost("SignatureThatThereIsNot", "mbr:0x12345678"), lost("WordThatIsNone", "somewhere"),
        Onward{"LocalDisk", "LOCALBOOT 0x80\n", "d1", std::nullopt, {}},
        Onward{"LocalDiskThatThereIsNot", "LOCALBOOT 0x81\n", {}, std::nullopt, {}},
        Onward{"BackToTheFirmware", "LOCALBOOT -1\n", {}, std::nullopt, {}},
        Onward{"OtherModule", "COM32 tool.c32\n", {}, std::nullopt, {}},
        Onward{"ModuleThatThereIsNot",
               "COM32 none.c32\n",
               {},
               Code::EntryLoadsNothing,
               "Failed to load COM32 file none.c32"},
        Onward{"SectorInAFile", "BSS other.bs\n", "d1p1", std::nullopt, {}},
        Onward{"SectorByItsName", "KERNEL other.bs\n", "d1p1", std::nullopt, {}},
        Onward{"SectorThatThereIsNot", "BOOT none.bs\n", {}, Code::EntryKernelMissing, "(nothing is said of it)"}),
    support::by_name);

// --- GRUB 2 ---------------------------------------------------------------------------------------------------------

const std::string desk_commands = "  linux " + support::today_kernel + " root=UUID=" + demo::root_uuid +
                                  " ro\n  initrd " + support::today_ramdisk + "\n";
const std::string desk_entries =
    "menuentry 'First' --id one {\n" + desk_commands + "}\nmenuentry 'Second' --id two {\n" + desk_commands + "}\n";

/// What the menu's lines choose: "First" or "Second".
struct Choice {
    const char* name;
    std::string lines;
    const char* entry;
};
class GrubChoices : public testing::TestWithParam<Choice> {};
TEST_P(GrubChoices, StartTheEntryThatTheMachineStarted) {
    auto desk = demo::front_desk();
    desk.root.file("/boot/grub/grub.cfg", "set timeout=5\nset default=0\n" + GetParam().lines + "\n" + desk_entries);
    desk.root.file("/boot/grub/more.cfg", "set default=1\n");
    const support::Checked checked(desk.build());
    ASSERT_FALSE(checked.verdict.systems.empty());
    EXPECT_EQ(checked.stage(), "yes");
    EXPECT_EQ(checked.system().entry, GetParam().entry);
    EXPECT_TRUE(checked.system().entry_is_default);
    EXPECT_EQ(checked.system().waits_for, "");
}
/// Holds, or does not: the second entry where it does.
Choice holds(const char* name, const std::string& condition) {
    return {name, "if " + condition + "; then\nset default=1\nfi", "Second"};
}
Choice fails(const char* name, const std::string& condition) {
    return {name, "if " + condition + "; then\nset default=1\nfi", "First"};
}
INSTANTIATE_TEST_SUITE_P(
    Conditions, GrubChoices,
    testing::Values(holds("Texts", "[ a = a ]"), fails("OtherTexts", "[ a = b ]"), holds("NotTheText", "[ a != b ]"),
                    holds("TwoEqualSigns", "[ a == a ]"), holds("Numbers", "[ 2 -gt 1 ]"),
                    holds("Equal", "[ 1 -eq 1 ]"), fails("NumbersAreNoTexts", "[ 10 -lt 9 ]"),
                    holds("File", "[ -f /boot/grub/grub.cfg ]"), fails("NoFile", "[ -f /boot/none ]"),
                    fails("FolderIsNoFile", "[ -f /boot ]"), holds("Folder", "[ -d /boot ]"),
                    holds("Thing", "[ -e /boot ]"), holds("FileWithBytes", "[ -s /boot/grub/grub.cfg ]"),
                    holds("NothingInIt", "[ -z \"\" ]"), holds("SomethingInIt", "[ -n a ]"), holds("Word", "[ a ]"),
                    fails("EmptyWord", "[ \"\" ]"), holds("NoWordAtAll", "[ $none ]"),
                    holds("BracketThatDoesNotEnd", "[ a = a"), fails("BracketThatDoesNotEndDecidesNothing", "[ a = b"),
                    holds("TestByItsName", "test a = a"), holds("NotBefore", "! [ -f /boot/none ]"),
                    holds("NotWithin", "[ ! -f /boot/none ]"), holds("Both", "[ a = a -a b = b ]"),
                    fails("NotBoth", "[ a = a -a b = c ]"), holds("OneOfThem", "[ a = b -o b = b ]"),
                    holds("NewerThanWhatIsNotThere", "[ /boot/grub/grub.cfg -nt /boot/none ]"),
                    fails("WhatIsNotThereIsNotNewer", "[ /boot/none -nt /boot/grub/grub.cfg ]"),
                    holds("WhatIsNotThereIsOlder", "[ /boot/none -ot /boot/grub/grub.cfg ]"),
                    holds("CommandThatThereIsNot", "sweep"), holds("Platform", "[ \"$grub_platform\" = pc ]")),
    support::by_name);
INSTANTIATE_TEST_SUITE_P(
    Lines, GrubChoices,
    testing::Values(
        Choice{"ByNumber", "set default=1", "Second"}, Choice{"ByTitle", "set default=Second", "Second"},
        Choice{"ByName", "set default=two", "Second"}, Choice{"NumberBehindABlank", "set default=' 1'", "Second"},
        Choice{"NumberBeforeALetter", "set default=1x", "Second"}, Choice{"Hexadecimal", "set default=0x1", "Second"},
        Choice{"Octal", "set default=01", "Second"}, Choice{"BeyondTheList", "set default=2", "First"},
        Choice{"FarBeyondTheList", "set default=99999999999999999999", "First"},
        Choice{"BelowZero", "set default=-1", "First"}, Choice{"Capitals", "set default=SECOND", "First"},
        Choice{"AnotherTitle", "set default=Third", "First"},
        Choice{"Elif",
               "if [ a = b ]; then\nset default=7\nelif [ a = a ]; then\nset default=1\nelse\nset default=0\nfi",
               "Second"},
        Choice{"For", "for n in 0 1; do\nset default=$n\ndone", "Second"},
        Choice{"While", "set n=a\nwhile [ $n != aaa ]; do\nset n=a$n\nset default=1\ndone", "Second"},
        Choice{"Until", "until [ $default = 1 ]; do\nset default=1\ndone", "Second"},
        Choice{"Break", "for n in 1 0; do\nset default=$n\nbreak\ndone", "Second"},
        Choice{"Continue", "for n in 1 0; do\nif [ $n = 0 ]; then continue; fi\nset default=$n\ndone", "Second"},
        Choice{"Function", "function choose {\nset default=$1\n}\nchoose 1", "Second"},
        Choice{"FunctionThatReturns",
               "function choose {\nreturn 1\nset default=7\n}\nif choose; then\nset default=0\nelse\nset default=1\nfi",
               "Second"},
        Choice{"ReturnOutsideOfAFunctionEndsItsLineAlone", "return\nset default=1", "Second"},
        Choice{"Shift", "function choose {\nshift\nset default=$1\n}\nchoose 0 1", "Second"},
        Choice{"AllWords", "function choose {\nfor n in $@; do\nset default=$n\ndone\n}\nchoose 0 1", "Second"},
        Choice{"CountOfWords", "function choose {\nset default=$#\n}\nchoose a", "Second"},
        Choice{"Eval", "eval \"set default=1\"", "Second"}, Choice{"LineThatGoesOn", "set default=\\\n1", "Second"},
        Choice{"CommentBehind", "set default=1 # swept", "Second"},
        Choice{"Braces", "set n=1\nset default=${n}", "Second"},
        Choice{"QuotesThatDoNotRead", "set n=1\nset default='$n'", "First"},
        Choice{"TakenBack", "set a=1\nunset a\nif [ -z \"$a\" ]; then set default=1; fi", "Second"},
        Choice{"SeveralInALine", "set default=7; set default=1", "Second"},
        Choice{"Source", "source /boot/grub/more.cfg", "Second"},
        Choice{"SourceOfNothing", "source /boot/grub/none.cfg", "First"},
        Choice{"UnknownCommand", "sweep friday", "First"},
        Choice{"ApostropheAsDistributionsWriteIt", "set a='x'\\''y'\nif [ $a = \"x'y\" ]; then\nset default=1\nfi",
               "Second"},
        Choice{"RootInParentheses", "set root=\"($root)\"\nif [ -f /boot/grub/grub.cfg ]; then\nset default=1\nfi",
               "Second"},
        Choice{"TypeOfAFileSystem", "probe --set=a --fs $root\nif [ $a = ext2 ]; then set default=1; fi", "Second"}),
    support::by_name);

TEST(GrubWaits, ForAChoiceOrAName) {
    const auto waits = [](const std::string& from, const std::string& to) {
        auto desk = demo::front_desk();
        desk.root.file("/boot/grub/grub.cfg", replaced("set timeout=5\nset default=0\n" + desk_entries, from, to));
        const support::Checked checked(desk.build());
        EXPECT_EQ(checked.stage(), "yes") << to;
        EXPECT_EQ(checked.system().entry, "First") << to;
        EXPECT_FALSE(checked.system().entry_is_default) << to;
        EXPECT_EQ(entry_sentence(checked.system()), "which waits for " + checked.system().waits_for);
        return checked.system().waits_for;
    };
    EXPECT_EQ(waits("set timeout=5\n", ""), "a choice");
    EXPECT_EQ(waits("timeout=5", "timeout=-1"), "a choice");
    EXPECT_EQ(waits("timeout=5", "timeout=soon"), "a choice");
    EXPECT_EQ(waits("set default=0", "set superusers=warden\npassword warden enzian"), "a user name and password");
}

TEST(GrubLeaves, WhereTheConfigurationSaysSo) {
    const auto checked = [](const std::string& lines, const std::string& behind = {}) {
        auto desk = demo::front_desk();
        desk.root.file("/boot/grub/grub.cfg", "set timeout=5\n" + lines + "\n" + desk_entries + behind);
        return support::Checked(desk.build());
    };
    for (const auto& [lines, behind, line, word] : std::vector<std::tuple<std::string, std::string, int, std::string>>{
             {"exit", "", 2, "exit"}, {"", "exit\n", 11, "exit"}, {"if [ a = a ]; then\nexit\nfi", "", 3, "exit"}}) {
        const auto leaves = checked(lines, behind);
        EXPECT_EQ(leaves.stage(), "configuration");
        const auto& rung = leaves.system().at(Stage::Configuration);
        EXPECT_EQ(rung.findings, std::vector<Code>{Code::GrubConfigEmpty});
        EXPECT_EQ(rung.text, "the configuration leaves GRUB, and the firmware goes on with what is next");
        ASSERT_FALSE(rung.evidence.empty());
        EXPECT_EQ(rung.evidence.front().place, "d1p1:/boot/grub/grub.cfg");
        EXPECT_EQ(rung.evidence.front().line, line);
        EXPECT_EQ(rung.evidence.front().found, word);
        EXPECT_EQ(leaves.system().symptom, "");
        EXPECT_EQ(leaves.system().at(Stage::Entry).state, State::NotReached);
    }
    EXPECT_EQ(checked("if [ a = b ]; then\nexit\nfi").stage(), "yes");
    EXPECT_EQ(checked("function leave {\nexit\n}").stage(), "yes");
}

}  // namespace
