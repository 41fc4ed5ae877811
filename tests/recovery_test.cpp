// SPDX-License-Identifier: MIT
// A recovery environment as a system of its own: found, walked, and broken in every way.
#include "forge/windows.hpp"
#include "office_pc.hpp"
#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;

namespace {

const std::string s32 = "/Windows/System32/";
const std::string image_place = "d1p3:/Recovery/WindowsRE/Winre.wim";
const std::string recovery_key = "Objects\\{0a1b0f00-0000-4000-8000-00000000c002}";
const std::string options_key = "Objects\\{0a1b0f00-0000-4000-8000-00000000c003}";
const std::string system_key = "Objects\\{0a1b0f00-0000-4000-8000-00000000c001}";

const SystemVerdict* recovery_of(const Verdict& verdict) {
    const auto found = std::ranges::find(verdict.systems, SystemKind::Recovery, &SystemVerdict::kind);
    return found != verdict.systems.end() ? &*found : nullptr;
}

TEST(Recovery, IsASystemOfItsOwn) {
    const Checked checked(demo::office_pc_with_recovery().build());
    ASSERT_EQ(checked.verdict.systems.size(), 2);
    EXPECT_EQ(checked.system().kind, SystemKind::Windows);
    EXPECT_EQ(checked.system().starts, Starts::Yes);
    const auto* recovery = recovery_of(checked.verdict);
    ASSERT_NE(recovery, nullptr);
    EXPECT_EQ(recovery->name, "Almhof Workplace Repair");
    EXPECT_EQ(recovery->version, "6.1.7601");
    EXPECT_EQ(recovery->place, "d1p3");
    EXPECT_EQ(recovery->starts, Starts::Yes);
    EXPECT_EQ(recovery->entry, "Almhof Workplace Repair");
    EXPECT_FALSE(recovery->entry_is_default);
    EXPECT_EQ(recovery->at(Stage::Ramdisk).state, State::Holds);
    EXPECT_EQ(recovery->at(Stage::Ramdisk).text, image_place + " becomes the RAM disk that the system lies in");
    EXPECT_EQ(recovery->at(Stage::Root).text, "the driver of RAM disks is there; " + image_place + " is readable");
    EXPECT_EQ(recovery->at(Stage::Kernel).state, State::Holds);
    EXPECT_TRUE(checked.verdict.all_start());
    // Both kinds of packing that the boot manager reads.
    for (const bool lzx : {false, true}) {
        auto pc = demo::office_pc_with_recovery();
        forge::WimOptions options;
        options.pack_piece = support::pack_piece;
        options.lzx = lzx;
        pc.recovery_files.file("/Recovery/WindowsRE/Winre.wim", forge::make_wim(pc.recovery, options));
        pc.own_image = false;
        const Checked packed(pc.build());
        ASSERT_NE(recovery_of(packed.verdict), nullptr);
        EXPECT_EQ(recovery_of(packed.verdict)->starts, Starts::Yes);
        EXPECT_EQ(recovery_of(packed.verdict)->name, "Windows Recovery Environment");
    }
}

/// What is wrong with it says nothing of the Windows beside it.
struct Fault {
    const char* name;
    std::function<void(demo::OfficePc&)> change;
    const char* stage;
    Code code;
    const char* text;  ///< of the finding
};
class RecoveryFault : public testing::TestWithParam<Fault> {};

TEST_P(RecoveryFault, StopsTheEnvironmentAndNotTheSystem) {
    auto pc = demo::office_pc_with_recovery();
    GetParam().change(pc);
    const Checked checked(pc.build());
    ASSERT_GE(checked.verdict.systems.size(), 2);
    EXPECT_EQ(checked.system().starts, Starts::Yes);
    EXPECT_TRUE(checked.verdict.all_start());
    const auto* recovery = recovery_of(checked.verdict);
    ASSERT_NE(recovery, nullptr);
    EXPECT_EQ(recovery->starts, Starts::No);
    ASSERT_TRUE(recovery->stops_at);
    EXPECT_EQ(stage_id(*recovery->stops_at), GetParam().stage);
    const auto& rung = recovery->at(*recovery->stops_at);
    ASSERT_FALSE(rung.findings.empty());
    EXPECT_EQ(rung.findings.front(), GetParam().code);
    EXPECT_EQ(rung.text, GetParam().text);
    EXPECT_FALSE(rung.evidence.empty());
}

void cut_in_half(demo::OfficePc& pc) { pc.recovery_cut = pc.recovery_image().size() / 2; }

INSTANTIATE_TEST_SUITE_P(
    Recovery, RecoveryFault,
    testing::Values(
        Fault{
            "Cut", cut_in_half, "entry", Code::WindowsImageDamaged,
            "“Almhof Workplace Repair”: d1p3:/Recovery/WindowsRE/Winre.wim cannot become a RAM disk: it is cut short"},
        Fault{
            "OneByteShort", [](auto& p) { p.recovery_cut = p.recovery_image().size() - 1; }, "entry",
            Code::WindowsImageDamaged,
            "“Almhof Workplace Repair”: d1p3:/Recovery/WindowsRE/Winre.wim cannot become a RAM disk: it is cut short"},
        Fault{"NoImagingFile",
              [](auto& p) {
                  p.own_image = false;
                  p.recovery_files.file("/Recovery/WindowsRE/Winre.wim", forge::noise(5000, 2));
              },
              "entry", Code::WindowsImageDamaged,
              "“Almhof Workplace Repair”: d1p3:/Recovery/WindowsRE/Winre.wim is no imaging file"},
        Fault{"NotMarked",
              [](auto& p) {
                  p.own_image = false;
                  forge::WimOptions options;
                  options.boot_image = 0;
                  p.recovery_files.file("/Recovery/WindowsRE/Winre.wim", forge::make_wim(p.recovery, options));
              },
              "entry", Code::WindowsImageDamaged,
              "“Almhof Workplace Repair”: no image in d1p3:/Recovery/WindowsRE/Winre.wim is marked to be started"},
        Fault{"Gone",
              [](auto& p) {
                  p.own_image = false;
                  p.recovery_files.file("/Recovery/ReadMe.txt", "moved");
              },
              "entry", Code::WindowsImageMissing,
              "“Almhof Workplace Repair”: its RAM disk is made of d1p3:/Recovery/WindowsRE/Winre.wim, which is not "
              "there"},
        Fault{"NoHead", [](auto& p) { p.with_ram_disk_head = false; }, "entry", Code::WindowsRamDiskHead,
              "“Almhof Workplace Repair”: d1p3:/Recovery/WindowsRE/boot.sdi, which the RAM disk begins with, is not "
              "there"},
        Fault{"HeadIsSomethingElse",
              [](auto& p) {
                  p.with_ram_disk_head = false;
                  p.recovery_files.file("/Recovery/WindowsRE/boot.sdi", forge::noise(4096, 4));
              },
              "entry", Code::WindowsRamDiskHead,
              "“Almhof Workplace Repair”: d1p3:/Recovery/WindowsRE/boot.sdi, which the RAM disk begins with, is no "
              "such file"},
        Fault{"NotNamed",
              [](auto& p) {
                  std::erase_if(p.store.child(system_key + "\\Elements").children,
                                [](const auto& n) { return n.name == "14000008"; });
              },
              "entry", Code::RecoveryNotNamed,
              "no recovery sequence of d1p1:/Boot/BCD leads to d1p3:/Recovery/WindowsRE/Winre.wim"},
        Fault{"SwitchedOff", [](auto& p) { p.store.child(system_key + "\\Elements\\16000009").bytes("Element", {0}); },
              "entry", Code::RecoveryNotNamed,
              "no recovery sequence of d1p1:/Boot/BCD leads to d1p3:/Recovery/WindowsRE/Winre.wim"},
        Fault{"PartitionGone",
              [](auto& p) {
                  auto device = forge::ram_disk_device(Bytes(16), forge::partition_device(77 * 512, 0x0A1B0F70),
                                                       "\\Recovery\\WindowsRE\\Winre.wim");
                  p.store.child(recovery_key + "\\Elements\\11000001").bytes("Element", device);
                  p.with_recovery = false;
              },
              "entry", Code::StoreDeviceGone,
              "“Almhof Workplace Repair”: its RAM disk is \\Recovery\\WindowsRE\\Winre.wim on the partition at byte "
              "39424 of the disk with signature 0a1b0f70, and nothing here answers to that"},
        Fault{"NoLoader", [](auto& p) { p.recovery.remove(s32 + "winload.exe"); }, "entry", Code::EntryKernelMissing,
              "“Almhof Workplace Repair” starts d1p3:/Recovery/WindowsRE/Winre.wim:/windows/system32/winload.exe, "
              "which is not there"},
        Fault{"NoKernel", [](auto& p) { p.recovery.remove(s32 + "ntoskrnl.exe"); }, "kernel",
              Code::WindowsKernelMissing,
              "the kernel d1p3:/Recovery/WindowsRE/Winre.wim:/windows/System32/ntoskrnl.exe cannot be loaded: it is "
              "not there"},
        Fault{"NoRamDiskDriver", [](auto& p) { p.recovery.remove(s32 + "drivers/ramdisk.sys"); }, "kernel",
              Code::WindowsBootDriverMissing,
              "the driver ramdisk (d1p3:/Recovery/WindowsRE/Winre.wim:/windows/System32/drivers/ramdisk.sys) starts at "
              "boot and cannot be loaded: it is not there"},
        Fault{"NoSessionManager", [](auto& p) { p.recovery.remove(s32 + "smss.exe"); }, "init",
              Code::WindowsProgramMissing,
              "the session manager (d1p3:/Recovery/WindowsRE/Winre.wim:/windows/System32/smss.exe) cannot run: it is "
              "not there"}),
    support::by_name);

/// Bytes that are cut in the middle of the image are shown with what should be there.
TEST(Recovery, ACutImageShowsItsSizes) {
    auto pc = demo::office_pc_with_recovery();
    cut_in_half(pc);
    const Checked checked(pc.build());
    const auto half = pc.recovery_cut;
    const auto& rung = recovery_of(checked.verdict)->at(Stage::Entry);
    const auto last = rung.evidence.back();
    EXPECT_EQ(last.place, image_place);
    pc.recovery_cut = 0;
    EXPECT_EQ(last.expected, size_text(pc.recovery_image().size()));
    EXPECT_EQ(last.found, "it is cut short (" + size_text(half) + ")");
    EXPECT_EQ(recovery_of(checked.verdict)->symptom, "(an error of the boot manager that names the image)");
}

/// Neither there nor absent: the medium does not give the end of the image, where its table lies.
TEST(Recovery, AnImageThatTheMediumDoesNotGive) {
    const auto bytes = demo::office_pc_with_recovery().build();
    const auto sound = support::machine_of(bytes);
    const auto volume = sound.volume(1, 3);
    ASSERT_NE(volume, nullptr);
    const auto* fs = volume->files(Observer::Nt);
    const auto file = resolve(*fs, "/Recovery/WindowsRE/Winre.wim");
    ASSERT_TRUE(file);
    const auto image = fs->open(file->file.id, "image");
    ASSERT_TRUE(image);
    const auto last = (*image)->locate((*image)->size() - 1, 1).front();
    Machine machine;
    machine.disks.push_back(
        inspect_disk(with_unreadable(memory_source(bytes, "d1", 1), {{last.offset, 1}}), 1, "test.img"));
    const auto verdict = check(machine);
    const auto* recovery = recovery_of(verdict);
    ASSERT_NE(recovery, nullptr);
    ASSERT_EQ(recovery->stops_at, Stage::Entry) << recovery->at(Stage::Kernel).text;
    EXPECT_EQ(recovery->at(Stage::Entry).findings.front(), Code::WindowsImageUnreadable);
    EXPECT_EQ(recovery->symptom, "File: \\Recovery\\WindowsRE\\Winre.wim\nStatus: 0xc0000185");
    EXPECT_TRUE(verdict.all_start());
}

/// What cannot be told is not called broken.
TEST(Recovery, WhatIsNotUnderstoodIsUnknown) {
    auto pc = demo::office_pc_with_recovery();
    std::erase_if(pc.store.child("Objects").children,
                  [](const auto& n) { return n.name == "{0a1b0f00-0000-4000-8000-00000000c003}"; });
    const Checked without_options(pc.build());
    const auto* recovery = recovery_of(without_options.verdict);
    ASSERT_NE(recovery, nullptr);
    EXPECT_EQ(recovery->starts, Starts::Unknown);
    EXPECT_EQ(recovery->at(Stage::Entry).text,
              "what “Almhof Workplace Repair” starts cannot be looked at: the store does not say what its RAM disk "
              "begins with");
    auto solid = demo::office_pc_with_recovery();
    auto image = solid.recovery_image();
    forge::put32(image, 12, 0xE00);
    solid.own_image = false;
    solid.recovery_files.file("/Recovery/WindowsRE/Winre.wim", image);
    const Checked together(solid.build());
    EXPECT_EQ(recovery_of(together.verdict)->starts, Starts::Unknown);
    EXPECT_EQ(recovery_of(together.verdict)->at(Stage::Entry).text,
              "what “Almhof Workplace Repair” starts cannot be looked at: the files in " + image_place +
                  " are not read here: its resources are packed together");
}

/// Below a folder that is named by a GUID, and by no entry at all: found by its files.
TEST(Recovery, IsFoundByItsFiles) {
    auto pc = demo::office_pc();
    auto other = demo::office_pc_with_recovery();
    pc.windows.file("/Recovery/{0a1b0f00-0000-4000-8000-00000000c0de}/Winre.wim", other.recovery_image());
    pc.windows.file("/Windows/System32/Recovery/Winre.wim", other.recovery_image());  // put away, not installed
    const auto machine = support::machine_of(pc.build());
    const auto systems = find_systems(machine);
    ASSERT_EQ(systems.size(), 2);
    EXPECT_EQ(systems[1].kind, SystemKind::Recovery);
    EXPECT_EQ(systems[1].directory, "/Recovery/{0a1b0f00-0000-4000-8000-00000000c0de}/Winre.wim");
    const auto inside = windows_in_image(systems[1]);
    ASSERT_TRUE(inside) << inside.error().text();
    EXPECT_EQ(inside->name, "Almhof Workplace Repair");
    EXPECT_EQ(inside->directory, "/Windows");
    const auto start = windows_startup(*inside);
    ASSERT_TRUE(start) << start.error().text();
    const auto setup = std::ranges::find(start->items, "setup", &StartupItem::name);
    ASSERT_NE(setup, start->items.end());
    EXPECT_EQ(setup->file, "/Windows/System32/winpeshl.exe");
    EXPECT_TRUE(setup->present);
    const auto none = windows_in_image(systems[0]);
    ASSERT_FALSE(none);
    EXPECT_EQ(none.error().kind, ErrorKind::WrongType);
}

/// What the environment's own shell starts, by its list.
TEST(Recovery, StartsWhatItsListNames) {
    auto pc = demo::office_pc_with_recovery();
    pc.recovery.file("/sources/repair/desk.exe", forge::make_pe({0x14C, 2, {}, {}, true}));
    pc.recovery.file(s32 + "winpeshl.ini",
                     "; the inn's own\r\n[LaunchApp]\r\nAppPath = %SYSTEMDRIVE%\\sources\\repair\\desk.exe\r\n"
                     "[LaunchApps]\r\n%SYSTEMROOT%\\System32\\bell.exe, -loud, -long\r\n[Other]\r\nx.exe\r\n");
    const auto machine = support::machine_of(pc.build());
    const auto systems = find_systems(machine);
    const auto recovery = std::ranges::find(systems, SystemKind::Recovery, &InstalledSystem::kind);
    ASSERT_NE(recovery, systems.end());
    const auto inside = windows_in_image(*recovery);
    ASSERT_TRUE(inside) << inside.error().text();
    const auto startup = windows_startup(*inside);
    ASSERT_TRUE(startup) << startup.error().text();
    std::vector<std::string> told;
    for (const auto& item : startup->items)
        if (item.name == "winpeshl")
            told.push_back(item.command + " | " + item.file + (item.present ? " | there | " : " | gone | ") +
                           item.source);
    EXPECT_EQ(told,
              (std::vector<std::string>{R"(%SYSTEMDRIVE%\sources\repair\desk.exe | /sources/repair/desk.exe | there | )"
                                        "/Windows/System32/winpeshl.ini, line 3",
                                        R"(%SYSTEMROOT%\System32\bell.exe, -loud, -long | /Windows/System32/bell.exe)"
                                        " | gone | /Windows/System32/winpeshl.ini, line 5"}));
}

}  // namespace
