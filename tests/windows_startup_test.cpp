// SPDX-License-Identifier: MIT
// What a Windows starts: services with what they need, safe mode, renames that were put off, tasks, command lines,
// filters of disks and volumes.
#include "forge/windows.hpp"
#include "office_pc.hpp"
#include "support.hpp"
#include "system/windows_commands.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;

namespace {

const std::string s32 = "/Windows/System32/";
const std::string disk_class = R"(ControlSet001\Control\Class\{4d36e967-e325-11ce-bfc1-08002be10318})";
const std::string volume_class = R"(ControlSet001\Control\Class\{71a27cdd-812a-11d0-bec7-08002be2092f})";
const std::string controller_class = R"(ControlSet001\Control\Class\{4d36e96a-e325-11ce-bfc1-08002be10318})";

forge::HiveNode& services(demo::OfficePc& pc) { return pc.system_hive.child("ControlSet001\\Services"); }

forge::HiveNode& service(demo::OfficePc& pc, const std::string& name, std::uint32_t start = 2) {
    pc.windows.file("/Program Files/Almhof/" + name + ".exe", forge::make_pe({0x14C, 3, {}, {}, true}));
    return services(pc)
        .child(name)
        .number("Type", 16)
        .number("Start", start)
        .number("ErrorControl", 1)
        .text("ImagePath", "\"C:\\Program Files\\Almhof\\" + name + ".exe\"", 2);
}

struct Started {
    Machine machine;
    WindowsStartup start;
    explicit Started(const demo::OfficePc& pc, StartMode mode = StartMode::Normal)
        : machine(support::machine_of(pc.build())) {
        auto made = windows_startup(find_systems(machine).front(), mode);
        EXPECT_TRUE(made) << made.error().text();
        if (made) start = std::move(*made);
    }
    [[nodiscard]] const StartupItem* at(const std::string& name) const {
        const auto found = std::ranges::find(start.items, name, &StartupItem::name);
        return found != start.items.end() ? &*found : nullptr;
    }
    [[nodiscard]] std::vector<std::string> of(StartupPhase phase) const {
        std::vector<std::string> out;
        for (const auto& item : start.items)
            if (item.phase == phase) out.push_back(item.name + (item.starts ? "" : " (no)"));
        return out;
    }
};
using Names = std::vector<std::string>;

// --- services
// ---------------------------------------------------------------------------------------------------------

TEST(WindowsServices, StartAfterWhatTheyNeed) {
    auto pc = demo::office_pc();
    service(pc, "Bells").texts("DependOnService", {"Tower", "GuestBook"}).number("DelayedAutostart", 1);
    service(pc, "Kitchen").texts("DependOnService", {"Tower"});
    service(pc, "Tower", 3);
    service(pc, "Unused", 3);
    const Started s(pc);
    EXPECT_EQ(s.of(StartupPhase::Service), (Names{"GuestBook", "Tower", "Kitchen", "Bells"}));
    EXPECT_EQ(s.at("Tower")->note, "because Kitchen needs it");
    EXPECT_EQ(s.at("Bells")->note, "a while after the others");
    EXPECT_EQ(s.at("Kitchen")->note, "");
}

TEST(WindowsServices, ThatDoNotStartSayWhy) {
    auto pc = demo::office_pc();
    service(pc, "Gone").text("ImagePath", "C:\\Program Files\\Almhof\\nobody.exe", 2);
    service(pc, "NeedsGone").texts("DependOnService", {"Gone"});
    service(pc, "NeedsNothingHere").texts("DependOnService", {"Avalanche"});
    service(pc, "Off", 4);
    service(pc, "NeedsOff").texts("DependOnService", {"Off"});
    service(pc, "A").texts("DependOnService", {"B"});
    service(pc, "B").texts("DependOnService", {"A"});
    service(pc, "Library")
        .text("ImagePath", "%SystemRoot%\\system32\\svchost.exe -k almhof", 2)
        .child("Parameters")
        .text("ServiceDll", "%SystemRoot%\\System32\\almhof.dll", 2);
    service(pc, "Grouped").texts("DependOnGroup", {"Valley"});
    service(pc, "Lower").text("ObjectName", ".\\innkeeper");
    pc.windows.file(s32 + "svchost.exe", forge::make_pe({0x14C, 3, {}, {}, true}));
    {
        const Started s(pc);
        EXPECT_EQ(s.at("Gone")->note, "/Program Files/Almhof/nobody.exe is not there");
        EXPECT_EQ(s.at("NeedsGone")->note,
                  "it needs Gone, which does not start: /Program Files/Almhof/nobody.exe is not there");
        EXPECT_EQ(s.at("NeedsNothingHere")->note, "it needs Avalanche, which is no service here");
        EXPECT_EQ(s.at("NeedsOff")->note, "it needs Off, which does not start: it is disabled");
        EXPECT_FALSE(s.at("A")->starts);
        EXPECT_NE(s.at("A")->note.find("runs in a circle"), std::string::npos) << s.at("A")->note;
        EXPECT_FALSE(s.at("B")->starts);
        EXPECT_EQ(s.at("Library")->note, "its library /Windows/System32/almhof.dll is not there");
        EXPECT_EQ(s.at("Grouped")->note, "it needs one of the group Valley, and none of it starts");
        EXPECT_EQ(s.at("Lower")->account, ".\\innkeeper");
        EXPECT_TRUE(s.at("Lower")->starts);
        EXPECT_EQ(s.at("Off"), nullptr);
    }
    pc.windows.file(s32 + "almhof.dll", forge::make_pe({0x14C, 2, {}, {}, true}));
    service(pc, "Chapel", 1).text("Group", "Valley");
    const Started mended(pc);
    EXPECT_TRUE(mended.at("Library")->starts) << mended.at("Library")->note;
    EXPECT_TRUE(mended.at("Grouped")->starts) << mended.at("Grouped")->note;
}

// --- safe mode
// --------------------------------------------------------------------------------------------------------

TEST(WindowsSafeMode, StartsWhatItsListsName) {
    auto pc = demo::office_pc();
    service(pc, "Listed").texts("DependOnService", {"GuestBook"});
    service(pc, "Alone");
    auto& lists = pc.system_hive.child("ControlSet001\\Control\\SafeBoot");
    lists.child("Minimal\\Listed").text("", "Service");
    lists.child("Minimal\\Alone").text("", "Service");
    lists.child("Network\\Alone").text("", "Service");
    lists.child("Network\\almbell.sys").text("", "Driver");
    lists.text("AlternateShell", "cmd.exe");
    pc.windows.file(s32 + "cmd.exe", forge::make_pe({0x14C, 3, {}, {}, true}));
    pc.software_hive.child("Microsoft\\Windows\\CurrentVersion\\RunOnce")
        .text("*Repair", "C:\\Windows\\explorer.exe")
        .text("Plain", "C:\\Windows\\explorer.exe");
    const Started safe(pc, StartMode::Safe);
    EXPECT_EQ(safe.of(StartupPhase::BootDriver), (Names{"partmgr", "volmgr", "storahci", "disk"}))
        << "the loader takes all of its own";
    EXPECT_EQ(safe.of(StartupPhase::SystemDriver), Names{"almbell (no)"});
    EXPECT_EQ(safe.at("almbell")->note, "not in the list of what starts in safe mode");
    EXPECT_FALSE(safe.at("Listed")->starts);
    EXPECT_EQ(safe.at("Listed")->note,
              "it needs GuestBook, which does not start: it is not in the list of what starts in safe mode");
    EXPECT_TRUE(safe.at("Alone")->starts);
    EXPECT_EQ(safe.of(StartupPhase::RunAtLogon), Names{"*Repair"});
    EXPECT_EQ(safe.of(StartupPhase::Logon), (Names{"Userinit", "Shell"}));
    EXPECT_TRUE(safe.start.findings.empty());
    const Started network(pc, StartMode::SafeNetwork);
    EXPECT_EQ(network.of(StartupPhase::SystemDriver), Names{"almbell"}) << "by its file's name";
    EXPECT_FALSE(network.at("Listed")->starts);
    const Started shell(pc, StartMode::SafeShell);
    EXPECT_EQ(shell.of(StartupPhase::Logon), (Names{"Userinit", "AlternateShell"}));
    EXPECT_EQ(shell.at("AlternateShell")->file, "/Windows/System32/cmd.exe");
    const Started without(demo::office_pc(), StartMode::Safe);
    ASSERT_EQ(without.start.findings.size(), 1);
    EXPECT_EQ(without.start.findings[0].code, Code::WindowsSafeListMissing);
    for (const auto mode : {StartMode::Normal, StartMode::Safe, StartMode::SafeNetwork, StartMode::SafeShell})
        EXPECT_EQ(start_mode_of(start_mode_id(mode)), mode);
    EXPECT_FALSE(start_mode_of("quiet"));
}

// --- what was put off
// -------------------------------------------------------------------------------------------------

forge::HiveNode& session(demo::OfficePc& pc) { return pc.system_hive.child("ControlSet001\\Control\\Session Manager"); }

TEST(WindowsRenames, ThatTakeAwayWhatIsNeeded) {
    auto pc = demo::office_pc();
    session(pc).texts("PendingFileRenameOperations", {"\\?\?\\C:\\Windows\\System32\\winlogon.exe", ""});
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), "services");
    const auto& rung = checked.system().at(Stage::Services);
    EXPECT_EQ(rung.findings.front(), Code::WindowsLogonProgramMissing);
    EXPECT_EQ(rung.text,
              "the logon (d1p2:/Windows/System32/winlogon.exe) is taken away by a rename that was put off "
              "until this start");
    EXPECT_EQ(rung.evidence.at(1).found, "ControlSet001\\Control\\Session Manager\\PendingFileRenameOperations");
    const Started s(pc);
    ASSERT_EQ(s.start.findings.size(), 1);
    EXPECT_EQ(s.start.findings[0].code, Code::WindowsPendingRemoval);
    EXPECT_EQ(s.start.findings[0].text,
              "the next start removes d1p2:/Windows/System32/winlogon.exe, which every start needs");
    ASSERT_NE(s.at("delete winlogon.exe"), nullptr);
    EXPECT_TRUE(s.at("delete winlogon.exe")->starts);
}

/// In pairs and in order: what is put in place of a file counts, and one that is there stays unless it is to go.
TEST(WindowsRenames, PutFilesInPlace) {
    auto pc = demo::office_pc();
    const auto image = pc.windows.at(s32 + "winlogon.exe").content;
    pc.windows.remove(s32 + "winlogon.exe");
    pc.windows.file("/Windows/Temp/new.tmp", image);
    session(pc).texts("PendingFileRenameOperations",
                      {"\\?\?\\C:\\Windows\\Temp\\new.tmp", "!\\?\?\\C:\\Windows\\System32\\winlogon.exe",
                       "\\?\?\\C:\\Windows\\Temp\\not-here.tmp", "", "\\?\?\\D:\\x", ""});
    EXPECT_EQ(Checked(pc.build()).stage(), "yes");
    const Started s(pc);
    EXPECT_TRUE(s.start.findings.empty());
    EXPECT_EQ(s.at("rename new.tmp")->note, "to /Windows/System32/winlogon.exe");
    EXPECT_EQ(s.at("delete not-here.tmp")->note, "it is not there any more: nothing to do");
    EXPECT_EQ(s.at("delete x")->note, "it lies on another volume");
    // Without the mark a file that is there stays.
    auto kept = demo::office_pc();
    kept.windows.file("/Windows/Temp/junk.tmp", forge::noise(900, 1));
    session(kept).texts("PendingFileRenameOperations",
                        {"\\?\?\\C:\\Windows\\Temp\\junk.tmp", "\\?\?\\C:\\Windows\\System32\\winlogon.exe"});
    EXPECT_EQ(Checked(kept.build()).stage(), "yes");
    session(kept).values.clear();
    session(kept).texts("PendingFileRenameOperations",
                        {"\\?\?\\C:\\Windows\\Temp\\junk.tmp", "!\\?\?\\C:\\Windows\\System32\\winlogon.exe"});
    const Checked replaced(kept.build());
    EXPECT_EQ(replaced.stage(), "services");
    EXPECT_NE(replaced.system().at(Stage::Services).text.find("cannot run: it is no image"), std::string::npos);
}

TEST(WindowsState, ControlSetsAndTheLastStart) {
    auto pc = demo::office_pc();
    pc.system_hive.child("ControlSet002\\Control");
    pc.system_hive.child("Select").number("Failed", 2).number("LastKnownGood", 1);
    Bytes status(2048);
    forge::put32(status, 0, 1);
    status[10] = 1;
    status[11] = 0;
    pc.windows.file("/Windows/bootstat.dat", status);
    const Started s(pc);
    EXPECT_EQ(s.start.control_sets, (std::vector<std::uint32_t>{1, 2}));
    EXPECT_EQ(s.start.registry.failed, 2);
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), "yes");
    const auto failed = std::ranges::find(checked.verdict.findings, Code::WindowsControlSetFailed, &Finding::code);
    ASSERT_NE(failed, checked.verdict.findings.end());
    EXPECT_EQ(failed->text, "a start with control set 2 failed before; ControlSet001 is used now");
    EXPECT_EQ(failed->evidence.at(0).found, "Select\\Failed = 2");
    ASSERT_TRUE(s.start.last_start);
    EXPECT_TRUE(s.start.last_start->succeeded);
    EXPECT_FALSE(s.start.last_start->shut_down);
    status[11] = 7;
    pc.windows.file("/Windows/bootstat.dat", status);
    EXPECT_FALSE(Started(pc).start.last_start) << "neither yes nor no: another layout";
    status.resize(11);
    pc.windows.file("/Windows/bootstat.dat", status);
    EXPECT_FALSE(Started(pc).start.last_start);
}

// --- tasks
// ------------------------------------------------------------------------------------------------------------

std::string task(const std::string& trigger, const std::string& action, const std::string& enabled = "true") {
    return "<?xml version=\"1.0\" encoding=\"UTF-16\"?>\n<Task version=\"1.2\" "
           "xmlns=\"http://schemas.microsoft.com/windows/2004/02/mit/task\"><Triggers>" +
           trigger +
           "</Triggers><Principals><Principal id=\"a\"><UserId>S-1-5-18</UserId></Principal></Principals>"
           "<Settings><Enabled>" +
           enabled + "</Enabled></Settings><Actions>" + action + "</Actions></Task>";
}
Bytes in_utf16(const std::string& text) {
    Bytes out{0xFF, 0xFE};
    const Bytes more = forge::utf16(text, false);
    out.insert(out.end(), more.begin(), more.end());
    return out;
}

TEST(WindowsStartUpFolder, HoldsFilesThatAreNoSettings) {
    auto pc = demo::office_pc();
    const std::string folder = "/ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp";
    pc.windows.file(folder + "/bell.exe", forge::make_program())
        .file(folder + "/Desktop.ini", "[.ShellClassInfo]\n")
        .file(folder + "/menu/soup.exe", forge::make_program())
        .file(folder + "/notes.lnk", "no link at all");
    const Started s(pc);
    EXPECT_EQ(s.of(StartupPhase::StartUpFolder), (Names{"bell.exe", "notes.lnk"}));
    const auto* bell = s.at("bell.exe");
    ASSERT_NE(bell, nullptr);
    EXPECT_EQ(bell->file, folder + "/bell.exe");
    EXPECT_EQ(bell->command, "");
    EXPECT_TRUE(bell->present);
}

TEST(WindowsTasks, AtStartAndAtLogon) {
    auto pc = demo::office_pc();
    const std::string folder = s32 + "Tasks/Almhof/";
    const std::string bell =
        "<Exec><Command>\"C:\\Program Files\\Almhof\\bell.exe\"</Command>"
        "<Arguments>/once</Arguments></Exec>";
    pc.windows.file(folder + "Ring", in_utf16(task("<BootTrigger/>", bell)));
    pc.windows.file(folder + "Greet", in_utf16(task("<LogonTrigger/>", bell)));
    pc.windows.file(folder + "Later", in_utf16(task("<CalendarTrigger/>", bell)));
    pc.windows.file(folder + "Off", in_utf16(task("<BootTrigger/>", bell, "false")));
    pc.windows.file(folder + "OffTrigger", in_utf16(task("<BootTrigger><Enabled>false</Enabled></BootTrigger>", bell)));
    pc.windows.file(folder + "Inside",
                    in_utf16(task("<BootTrigger/>", "<ComHandler><ClassId>{0}</ClassId></ComHandler>")));
    pc.windows.file(folder + "Broken", "not a task <<<");
    const Started s(pc);
    EXPECT_EQ(s.of(StartupPhase::TaskAtStart),
              (Names{"\\Almhof\\Broken (no)", "\\Almhof\\Inside", "\\Almhof\\Off (no)", "\\Almhof\\Ring"}));
    EXPECT_EQ(s.of(StartupPhase::TaskAtLogon), Names{"\\Almhof\\Greet"});
    const auto* ring = s.at("\\Almhof\\Ring");
    EXPECT_EQ(ring->file, "/Program Files/Almhof/bell.exe");
    EXPECT_TRUE(ring->present);
    EXPECT_EQ(ring->account, "S-1-5-18");
    EXPECT_EQ(ring->command, "\"C:\\Program Files\\Almhof\\bell.exe\" /once");
    EXPECT_EQ(ring->source, "d1p2:" + folder + "Ring");
    EXPECT_EQ(s.at("\\Almhof\\Off")->note, "switched off");
    EXPECT_EQ(s.at("\\Almhof\\Broken")->note, "it is no description of a task");
    EXPECT_EQ(s.at("\\Almhof\\Inside")->note, "calls into a registered library, which is not followed");
    EXPECT_TRUE(Started(pc, StartMode::Safe).of(StartupPhase::TaskAtStart).empty());
}

// --- command lines
// ----------------------------------------------------------------------------------------------------

struct Line {
    const char* name;
    const char* command;
    const char* file;
    bool present;
    const char* note;
};
class CommandLines : public testing::TestWithParam<Line> {};
TEST_P(CommandLines, LeadToTheirProgram) {
    forge::Tree tree;
    tree.file("/Windows/System32/notes.exe", "MZ").file("/Windows/explorer.exe", "MZ");
    tree.file("/Program Files/Almhof/bell.exe", "MZ").file("/Program Files/Almhof Inn/ring.exe", "MZ");
    tree.file("/Program Files/Almhof.exe", "MZ").file("/Windows/odd.name", "MZ");
    const auto bytes = forge::make_ntfs(tree, {4U << 20U, 0, 1, "", "", false});
    const auto fs = open_file_system(support::source_of(bytes), Reader::Loader);
    ASSERT_TRUE(fs);
    WindowsCommands commands(**fs, "/Windows", 'C');
    commands.define("userprofile", "C:\\Users\\vreni");
    const auto told = commands.program_of(GetParam().command);
    EXPECT_EQ(told.file, GetParam().file);
    EXPECT_EQ(told.present, GetParam().present);
    EXPECT_EQ(told.note, GetParam().note);
}
INSTANTIATE_TEST_SUITE_P(
    Windows, CommandLines,
    testing::Values(
        Line{"Quoted", "\"C:\\Program Files\\Almhof\\bell.exe\" /quiet", "/Program Files/Almhof/bell.exe", true, ""},
        Line{"QuotedWithoutEnding", "\"C:\\Program Files\\Almhof\\bell\" x", "/Program Files/Almhof/bell.exe", true,
             ""},
        Line{"Blanks", "C:\\Program Files\\Almhof\\bell.exe /quiet", "/Program Files/Almhof/bell.exe", true, ""},
        Line{"BlanksCaught", "C:\\Program Files\\Almhof Inn\\ring.exe /x", "/Program Files/Almhof.exe", true,
             "without quotes: /Program Files/Almhof.exe runs in place of C:\\Program Files\\Almhof Inn\\ring.exe"},
        Line{"Bare", "notes /a", "/Windows/System32/notes.exe", true, ""},
        Line{"BareInWindows", "explorer.exe", "/Windows/explorer.exe", true, ""},
        Line{"Variable", "%windir%\\explorer.exe", "/Windows/explorer.exe", true, ""},
        Line{"VariableOfPrograms", "%ProgramFiles%\\Almhof\\bell.exe", "/Program Files/Almhof/bell.exe", true, ""},
        Line{"UnknownVariable", "%ALMHOF%\\bell.exe", "/Windows/%ALMHOF%/bell.exe", false, ""},
        Line{"PercentAlone", "C:\\100%\\x.exe", "/100%/x.exe", false, ""},
        Line{"User", "%USERPROFILE%\\a.exe /b", "/Users/vreni/a.exe", false, ""},
        Line{"OtherVolume", "D:\\tools\\x.exe", "", false, ""}, Line{"Share", "\\\\server\\x.exe", "", false, ""},
        Line{"SystemRoot", "\\SystemRoot\\explorer.exe", "/Windows/explorer.exe", true, ""},
        Line{"Gone", "C:\\gone away\\x.exe /q", "/gone away/x.exe", false, ""},
        Line{"OtherExtension", "C:\\Windows\\odd.name -x", "/Windows/odd.name", true, ""},
        Line{"Empty", "  ", "", false, ""},
        Line{"OpenQuote", "\"C:\\Windows\\explorer.exe", "/Windows/explorer.exe", true, ""}),
    support::by_name);

// --- filters
// ----------------------------------------------------------------------------------------------------------

struct Filter {
    const char* name;
    std::function<void(demo::OfficePc&)> change;
    const char* stage;
    std::optional<Code> code;
    const char* text;
};
class Filters : public testing::TestWithParam<Filter> {};
TEST_P(Filters, OfDisksAndVolumes) {
    auto pc = demo::office_pc();
    GetParam().change(pc);
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), GetParam().stage);
    if (!GetParam().code) {
        EXPECT_FALSE(checked.has(Code::WindowsFilterDoubtful));
        return;
    }
    const auto found = std::ranges::find(checked.verdict.findings, *GetParam().code, &Finding::code);
    ASSERT_NE(found, checked.verdict.findings.end());
    EXPECT_EQ(found->text, GetParam().text);
    EXPECT_EQ(found->evidence.front().place, "d1p2:/Windows/System32/config/SYSTEM");
    EXPECT_TRUE(found->evidence.front().found.starts_with("ControlSet001\\Control\\Class\\{"))
        << found->evidence.front().found;
    if (*GetParam().code == Code::WindowsFilterMissing) {
        EXPECT_EQ(found->symptom, "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE");
        EXPECT_EQ(checked.system().at(Stage::Kernel).state, State::Holds);
        EXPECT_EQ(checked.system().at(Stage::Init).state, State::NotReached);
    }
}
INSTANTIATE_TEST_SUITE_P(
    Windows, Filters,
    testing::Values(
        Filter{"Sound",
               [](auto& p) { p.system_hive.child(disk_class).texts("UpperFilters", {"PartMgr"}); },
               "yes",
               {},
               ""},
        Filter{"DiskKeyGone",
               [](auto& p) {
                   p.system_hive.child(disk_class).texts("UpperFilters", {"partmgr", "almsave"});
               },
               "root", Code::WindowsFilterMissing,
               "the filter driver almsave of disk drives has no service key: these devices do not start, and the "
               "system's volume is not found"},
        Filter{"VolumeKeyGone", [](auto& p) { p.system_hive.child(volume_class).texts("LowerFilters", {"almsave"}); },
               "root", Code::WindowsFilterMissing,
               "the filter driver almsave of volumes has no service key: these devices do not start, and the system's "
               "volume is not found"},
        Filter{"FileGone",
               [](auto& p) {
                   services(p).child("almsave").number("Type", 1).number("Start", 0).number("ErrorControl", 1);
                   p.system_hive.child(disk_class).texts("LowerFilters", {"almsave"});
               },
               "root", Code::WindowsFilterMissing,
               "the filter driver almsave of disk drives cannot be loaded: d1p2:/Windows/System32/drivers/almsave.sys: "
               "it is not there: these devices do not start, and the system's volume is not found"},
        Filter{"Disabled",
               [](auto& p) {
                   services(p).child("almbell").number("Start", 4);
                   p.system_hive.child(disk_class).texts("UpperFilters", {"almbell"});
               },
               "yes", Code::WindowsFilterDoubtful,
               "the filter driver almbell of disk drives does not start at boot (Start 4)"},
        Filter{"OfAController",
               [](auto& p) { p.system_hive.child(controller_class).texts("UpperFilters", {"almsave"}); }, "yes",
               Code::WindowsFilterDoubtful, "the filter driver almsave of disk controllers has no service key"}),
    support::by_name);

}  // namespace
