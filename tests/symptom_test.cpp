// SPDX-License-Identifier: MIT
// From the symptom back: texts as people type them, numbers, whole screens, and what an image says of them.
#include <algorithm>
#include <fstream>
#include <nlohmann/json.hpp>

#include "demo_disks.hpp"
#include "support.hpp"

using namespace herberge;
using support::Checked;

namespace {

bool names(const SymptomReading& reading, Code code) {
    return std::ranges::any_of(reading.answers, [&](const StageAnswer& answer) {
        return std::ranges::find(answer.causes, code, &Cause::code) != answer.causes.end();
    });
}
std::string first_two(const SymptomReading& reading) {
    std::string out;
    for (std::size_t i = 0; i < std::min<std::size_t>(2, reading.answers.size()); ++i)
        out += std::string(i == 0 ? "" : " ") + std::string(stage_id(reading.answers[i].stage));
    return out;
}
const SeenNumber* number(const SymptomReading& reading, NumberKind kind) {
    const auto found = std::ranges::find(reading.numbers, kind, &SeenNumber::kind);
    return found != reading.numbers.end() ? &*found : nullptr;
}

// --- weighed by an image, one rule at a time ---------------------------------------------------------------------

SystemVerdict with_root(const std::string& name, State state, std::vector<Code> codes, const std::string& text) {
    SystemVerdict out;
    out.name = name;
    out.place = "d1p2";
    auto& rung = out.stages[static_cast<std::size_t>(Stage::Root)];
    rung.state = state;
    rung.text = text;
    rung.findings = std::move(codes);
    if (state == State::Breaks) out.stops_at = Stage::Root;
    return out;
}

Cause weighed(const Verdict& verdict) {
    SymptomReading reading;
    reading.answers.push_back({Stage::Root, 1, {}, {{.code = Code::RootNotOpened, .stage = Stage::Root}}});
    weigh_by_image(reading, verdict);
    return reading.answers.at(0).causes.at(0);
}

TEST(WeighedSymptoms, ACauseIsRealWhereThatStageBreaksForIt) {
    const std::string nothing = "nothing on the image shows it, and that stage was not reached or not told";
    const struct {
        State state;
        std::vector<Code> codes;
        Borne borne;
        std::string text;
    } rows[] = {
        {State::Breaks, {Code::RootNotOpened}, Borne::Real, "Inn (d1p2): no root"},
        {State::Breaks, {Code::KernelNotVerified, Code::RootNotOpened}, Borne::Real, "Inn (d1p2): no root"},
        {State::Breaks, {}, Borne::Possible, "that stage breaks for another reason: no root"},
        {State::Breaks, {Code::KernelNotVerified}, Borne::Possible, "that stage breaks for another reason: no root"},
        // A remark upon a stage that goes on is no break.
        {State::Doubtful, {Code::RootNotOpened}, Borne::Possible, nothing},
        {State::Unknown, {Code::RootNotOpened}, Borne::Possible, nothing},
        {State::NotReached, {}, Borne::Possible, nothing},
        {State::Holds, {}, Borne::Excluded, "that stage holds for every system on the image"},
        {State::NotNeeded, {}, Borne::Excluded, "that stage holds for every system on the image"},
    };
    for (const auto& row : rows) {
        Verdict verdict;
        verdict.systems = {with_root("Inn", row.state, row.codes, "no root")};
        const auto cause = weighed(verdict);
        EXPECT_EQ(cause.borne, row.borne) << static_cast<int>(row.state);
        EXPECT_EQ(cause.borne_text, row.text);
    }
}

TEST(WeighedSymptoms, AllSystemsAndTheImageItselfCount) {
    Verdict verdict;
    EXPECT_EQ(weighed(verdict).borne, Borne::Possible) << "no system";
    verdict.systems = {with_root("Inn", State::Holds, {}, "held"), with_root("Hut", State::NotReached, {}, "")};
    EXPECT_EQ(weighed(verdict).borne, Borne::Possible) << "one holds, one is not known";
    verdict.systems[1] = with_root("Hut", State::Breaks, {Code::RootNotOpened}, "gone");
    verdict.systems[1].place.reset();
    EXPECT_EQ(weighed(verdict).borne, Borne::Real);
    EXPECT_EQ(weighed(verdict).borne_text, "Hut: gone");
    // A finding that belongs to no system.
    verdict.systems.pop_back();
    verdict.findings.push_back(make_finding(Code::RootNotOpened, "found besides", {}));
    EXPECT_EQ(weighed(verdict).borne, Borne::Real);
    EXPECT_EQ(weighed(verdict).borne_text, "found besides");
}

/// Real causes first, excluded ones last; of stages, those with a real cause, then those that a system stops at.
TEST(WeighedSymptoms, TheOrderIsByWhatTheImageHas) {
    Verdict verdict;
    verdict.systems = {with_root("Inn", State::Breaks, {Code::RootNotOpened}, "no root")};
    verdict.systems[0].stages[static_cast<std::size_t>(Stage::Kernel)].state = State::Holds;
    SymptomReading reading;
    const auto cause = [](Code code, Stage stage) { return Cause{.code = code, .stage = stage}; };
    reading.answers.push_back({Stage::Kernel, 1, {}, {cause(Code::KernelNotVerified, Stage::Kernel)}});
    reading.answers.push_back({Stage::Services, 0.9, {}, {cause(Code::UbootTreeRefused, Stage::Services)}});
    reading.answers.push_back({Stage::Root, 0.8, "told by a milestone", {}});
    reading.answers.push_back({Stage::Init,
                               0.7,
                               {},
                               {cause(Code::KernelNotVerified, Stage::Kernel),
                                cause(Code::UbootTreeRefused, Stage::Init), cause(Code::RootNotOpened, Stage::Root)}});
    weigh_by_image(reading, verdict);
    std::vector<Stage> order;
    for (const auto& answer : reading.answers) order.push_back(answer.stage);
    EXPECT_EQ(order, (std::vector<Stage>{Stage::Init, Stage::Root, Stage::Services, Stage::Kernel}));
    const auto& causes = reading.answers.front().causes;
    ASSERT_EQ(causes.size(), 3U);
    EXPECT_EQ(causes[0].borne, Borne::Real);
    EXPECT_EQ(causes[1].borne, Borne::Possible);
    EXPECT_EQ(causes[2].borne, Borne::Excluded);
}

}  // namespace

TEST(Symptom, TextsAsPeopleTypeThem) {
    const struct {
        const char* text;
        Code code;
        const char* stages;
    } cases[] = {
        {"error: no such device: 1a1a0f00-11a0-4a01-8a01-0a1b2c3d4e01.", Code::EntryDeviceMissing,
         "partition-table entry"},
        {"ERROR:   NO SUCH DEVICE", Code::EntryDeviceMissing, "partition-table entry"},
        {"erorr: no such devise", Code::EntryDeviceMissing, "partition-table entry"},
        {"VFS: Unable to mount root", Code::RamdiskMissing, "root ramdisk"},
        {"Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)", Code::RamdiskMissing,
         "ramdisk root"},
        {"BOOTMGR is missing", Code::WindowsLoaderMissing, "loader boot-sector"},
        {"Press Ctrl+Alt+Del to restart\nBOOTMGR is missing", Code::WindowsLoaderMissing, "loader boot-sector"},
        {"Status: 0xc000014c", Code::StoreDamaged, "configuration kernel"},
        {"0XC000000E", Code::StoreDeviceGone, "entry"},
        {"c000000e", Code::StoreDeviceGone, "entry"},
        {"Der Start ist fehlgeschlagen. Fehlercode: 0xc000000e", Code::StoreDeviceGone, "entry"},
        {"Error 22", Code::LegacyPartitionMissing, "partition-table entry"},
        {"Error 17: Cannot mount selected partition", Code::LegacyFileSystem, "loader"},
        {"grub rescue>", Code::GrubNormalModule, "loader partition-table"},
        {"  \x1b[1mgrub>\x1b[0m ", Code::GrubConfigMissing, "configuration"},
        {"GRUB _", Code::GrubCorePointer, "loader boot-code"},
        {"GRUB GRUB GRUB GRUB GRUB", Code::GrubCoreFirstSector, "loader boot-code"},
        {"blinking cursor", Code::BootCodeEmpty, "boot-code boot-sector"},
        {"Booting from Hard Disk...", Code::BootCodeEmpty, "boot-code boot-sector"},
        {"can't run '/etc/init.d/rcS': No such file or directory", Code::ServicesProgramMissing, "services init"},
        {"*** STOP: 0x0000007B (0xF78D2524, 0xC0000034)", Code::WindowsNoDiskController, "root"},
        {"inaccessible boot device", Code::WindowsStorageDriver, "root"},
    };
    for (const auto& one : cases) {
        const auto reading = read_symptom(one.text);
        EXPECT_TRUE(names(reading, one.code)) << one.text;
        EXPECT_TRUE(
            first_two(reading).starts_with(std::string(one.stages).substr(0, std::string(one.stages).find(' '))))
            << one.text << ": " << first_two(reading);
        EXPECT_TRUE(reading.nearest.empty()) << one.text;
    }
}

TEST(Symptom, NumbersAreDecodedByWhoCountsThem) {
    const struct {
        const char* text;
        NumberKind kind;
        std::uint64_t value;
        const char* name;
    } cases[] = {
        {"0xc000000f", NumberKind::NtStatus, 0xC000000F, "STATUS_NO_SUCH_FILE"},
        {"C000000F", NumberKind::NtStatus, 0xC000000F, "STATUS_NO_SUCH_FILE"},
        {"Code d'arret 0xC0000428 !", NumberKind::NtStatus, 0xC0000428, "STATUS_INVALID_IMAGE_HASH"},
        {"STOP: 0x0000007b", NumberKind::StopCode, 0x7B, "INACCESSIBLE_BOOT_DEVICE"},
        {"stop code 7B", NumberKind::StopCode, 0x7B, "INACCESSIBLE_BOOT_DEVICE"},
        {"Unmountable_Boot_Volume", NumberKind::StopCode, 0xED, "UNMOUNTABLE_BOOT_VOLUME"},
        {"BdsDxe: failed to load Boot0001 \"X\": Access Denied", NumberKind::EfiStatus, 15, "EFI_ACCESS_DENIED"},
        {"Verification failed: (0x1A) Security Violation", NumberKind::EfiStatus, 0x1A, "EFI_SECURITY_VIOLATION"},
        {"error 0x800000000000000E", NumberKind::EfiStatus, 14, "EFI_NOT_FOUND"},
        {"Fehler 15", NumberKind::GrubLegacy, 15, ""},
        {"L 99 99 99", NumberKind::BiosDisk, 0x99, ""},
        {"LI 01", NumberKind::BiosDisk, 1, ""},
        {"Failed to execute /init (error -2)", NumberKind::LinuxErrno, 2, "ENOENT"},
        {"VFS: Cannot open root device \"sda1\" or unknown-block(0,0): error -6", NumberKind::LinuxErrno, 6, "ENXIO"}};
    for (const auto& one : cases) {
        const auto reading = read_symptom(one.text);
        const auto* seen = number(reading, one.kind);
        ASSERT_NE(seen, nullptr) << one.text;
        EXPECT_EQ(seen->value, one.value) << one.text;
        ASSERT_NE(seen->known, nullptr) << one.text;
        EXPECT_EQ(seen->known->name, one.name);
        EXPECT_EQ(seen->known->meaning.back(), '.');
    }
    // An argument of a blue screen is no stop code, an address no status, a version no error.
    const auto reading = read_symptom("*** STOP: 0x0000007B (0xF78D2524, 0x00000000)\nvmlinuz-6.1.0-53");
    EXPECT_EQ(reading.numbers.size(), 1U);
    const auto unknown = read_symptom("0xC0FFEE11");
    ASSERT_EQ(unknown.numbers.size(), 1U);
    EXPECT_EQ(unknown.numbers[0].known, nullptr);
}

TEST(Symptom, TheTableOfNumbersHasEachOnce) {
    for (const auto& row : known_numbers()) {
        EXPECT_EQ(find_number(row.kind, row.value), &row) << row.name;
        EXPECT_FALSE(row.meaning.empty());
        EXPECT_FALSE(number_kind_name(row.kind).empty());
    }
    EXPECT_EQ(find_number(NumberKind::StopCode, 0xFFFF), nullptr);
    EXPECT_EQ(number_kind_name(NumberKind::BiosDisk), "BIOS disk status");
}

TEST(Symptom, MilestonesTellWhatIsBehind) {
    // The firmware's complaint about one disk is behind a machine whose GRUB runs.
    const auto reading = read_symptom(
        "Booting from Hard Disk...\nBoot failed: not a bootable disk\nBooting from Hard Disk...\nGRUB loading.\n"
        "Welcome to GRUB!\n\nerror: file `/boot/grub/i386-pc/normal.mod' not found.\ngrub rescue> ");
    ASSERT_EQ(reading.milestones.size(), 6U);
    EXPECT_EQ(reading.milestones.back().line, "grub rescue> ");
    EXPECT_EQ(reading.milestones.back().through, Stage::BootCode);
    ASSERT_FALSE(reading.answers.empty());
    EXPECT_EQ(reading.answers[0].stage, Stage::Loader);
    EXPECT_EQ(reading.answers[0].causes.at(0).code, Code::GrubNormalModule);
    EXPECT_EQ(reading.answers[0].causes.at(0).line, "error: file `/boot/grub/i386-pc/normal.mod' not found.");
    EXPECT_EQ(reading.answers[0].why, "GRUB's core image runs and has neither its modules nor its configuration.");
    // Nothing more than GRUB's menu: the entry or its kernel.
    EXPECT_EQ(first_two(read_symptom("Use the ^ and v keys to select which entry is highlighted.")), "entry kernel");
}

TEST(Symptom, UnknownTextNamesTheNearest) {
    EXPECT_TRUE(read_symptom("").answers.empty());
    EXPECT_TRUE(read_symptom(" \r\n\t").answers.empty());
    const auto reading = read_symptom("the purple cow sings");
    EXPECT_TRUE(reading.answers.empty());
    EXPECT_TRUE(reading.numbers.empty());
    const auto near = read_symptom("something with the boot sector was corrupt today on Monday");
    EXPECT_TRUE(near.answers.empty()) << first_two(near);
    ASSERT_FALSE(near.nearest.empty());
    EXPECT_LE(near.nearest.size(), 3U);
}

TEST(Symptom, LongScreensAreCutFromTheirBeginning) {
    const auto with_lines_behind = [](int count) {
        std::string text = "BOOTMGR is missing\n";
        for (int i = 0; i < count; ++i) text += "x\n";
        return text;
    };
    EXPECT_TRUE(names(read_symptom(with_lines_behind(999)), Code::WindowsLoaderMissing));
    EXPECT_FALSE(names(read_symptom(with_lines_behind(1000)), Code::WindowsLoaderMissing));
    EXPECT_TRUE(names(read_symptom(with_lines_behind(1000) + "BOOTMGR is missing"), Code::WindowsLoaderMissing));
    EXPECT_TRUE(names(read_symptom(std::string(1U << 20U, 'x') + "\nBOOTMGR is missing"), Code::WindowsLoaderMissing));
    std::string bytes;
    for (int i = 0; i < 4096; ++i) bytes += static_cast<char>(i * 37);
    EXPECT_LE(read_symptom(bytes).nearest.size(), 3U);
}

TEST(Symptom, AnImageSaysWhatItReallyHas) {
    auto desk = demo::front_desk();
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=LABEL=cellar");
    const Checked checked(desk.build());
    auto reading = read_symptom("ALERT! LABEL=cellar does not exist. Dropping to a shell!");
    weigh_by_image(reading, checked.verdict);
    ASSERT_EQ(reading.answers.at(0).stage, Stage::Root);
    const auto& causes = reading.answers[0].causes;
    EXPECT_EQ(causes.at(0).code, Code::RootNotFound);
    EXPECT_EQ(causes.at(0).borne, Borne::Real);
    EXPECT_NE(causes.at(0).borne_text.find("nothing on this machine answers to root=LABEL=cellar"), std::string::npos);
    const auto other = std::ranges::find(causes, Code::RamdiskNoDiskDriver, &Cause::code);
    ASSERT_NE(other, causes.end());
    EXPECT_EQ(other->borne, Borne::Possible);
    EXPECT_NE(other->borne_text.find("breaks for another reason"), std::string::npos);
    // What this image cannot have comes last, however well the text fits.
    auto loader = read_symptom("grub rescue>");
    weigh_by_image(loader, checked.verdict);
    const auto answer = std::ranges::find(loader.answers, Stage::Loader, &StageAnswer::stage);
    ASSERT_NE(answer, loader.answers.end());
    for (const auto& cause : answer->causes) EXPECT_EQ(cause.borne, Borne::Excluded) << code_id(cause.code);
    EXPECT_EQ(answer->causes.front().borne_text, "that stage holds for every system on the image");
}

/// The stage that really breaks comes before those that hold, whatever the text alone is likeliest of.
TEST(Symptom, TheStageThatBreaksComesFirst) {
    const auto stages = [](const Verdict& verdict) {
        auto reading = read_symptom("error: unknown filesystem.");
        const std::size_t before = reading.answers.size();
        weigh_by_image(reading, verdict);
        EXPECT_EQ(reading.answers.size(), before);
        std::vector<Stage> out;
        for (const auto& answer : reading.answers) out.push_back(answer.stage);
        return out;
    };
    auto desk = demo::front_desk();
    EXPECT_EQ(read_symptom("error: unknown filesystem.").answers.front().stage, Stage::Entry) << "by the text alone";
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=LABEL=cellar");
    EXPECT_EQ(stages(Checked(desk.build()).verdict).front(), Stage::Root);
    auto kernel = demo::front_desk();
    kernel.root.remove(std::string("/boot/vmlinuz-") + demo::release);
    EXPECT_EQ(stages(Checked(kernel.build()).verdict).front(), Stage::Entry);
}

TEST(SymptomTool, SaysTheStageFirstAndWhatTheImageHas) {
    const support::Folder folder;
    const auto tool = [](const std::string& arguments) {
        return support::shell(std::string("NO_COLOR=1 ") + TOOL_PATH + " symptom " + arguments);
    };
    const auto plain = tool("--seen 0xc000000e");
    EXPECT_EQ(plain.status, 0);
    EXPECT_TRUE(plain.out.starts_with(
        "Most likely it stops at entry, which completes when the entry it would start resolves\n"))
        << plain.out;
    EXPECT_NE(plain.out.find("0xc000000e: NTSTATUS STATUS_NO_SUCH_DEVICE. A device that the boot store names"),
              std::string::npos);
    EXPECT_NE(plain.out.find("    store-device-gone  "), std::string::npos);
    auto desk = demo::front_desk();
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=LABEL=cellar");
    const auto image = folder.write("desk.img", desk.build());
    const auto real = tool(image + " --seen 'does not exist. Dropping to a shell'");
    EXPECT_EQ(real.status, 0);
    EXPECT_TRUE(real.out.starts_with("It stops at root, which completes when ")) << real.out;
    EXPECT_NE(real.out.find("this image has it: "), std::string::npos);
    const auto unknown = tool("--seen 'the purple cow sings'");
    EXPECT_EQ(unknown.status, 1);
    EXPECT_TRUE(unknown.out.starts_with("No screen that is known here fits this text.\n")) << unknown.out;
    EXPECT_EQ(tool("").status, 2);
    EXPECT_EQ(tool("--seen '  '").status, 2);
    EXPECT_EQ(tool("--seen-in " + folder.file("nothing")).status, 3);
    EXPECT_EQ(tool(folder.file("nothing") + " --seen x").status, 3);
}

TEST(SymptomTool, ShowsTheLastMilestones) {
    const support::Folder folder;
    const auto file = folder.write(
        "screen.txt",
        forge::to_bytes("Booting from Hard Disk...\nBoot failed: not a bootable disk\nBooting from Hard Disk...\n"
                        "GRUB loading.\nWelcome to GRUB!\n\nerror: file `/boot/grub/i386-pc/normal.mod' not found.\n"
                        "grub rescue> "));
    const auto out = support::shell(std::string(TOOL_PATH) + " symptom --seen-in " + file).out;
    const auto count = [&](const std::string& what) {
        std::size_t times = 0;
        for (std::size_t at = 0; (at = out.find(what, at)) != std::string::npos; at += what.size()) ++times;
        return times;
    };
    // Of six the last four.
    EXPECT_EQ(count("“Booting from Hard Disk...”: "), 1U) << out;
    EXPECT_EQ(count("“Boot failed: not a bootable disk”: "), 0U) << out;
    EXPECT_EQ(count("“GRUB loading.”: "), 1U) << out;
    EXPECT_EQ(count("“Welcome to GRUB!”: "), 1U) << out;
    EXPECT_EQ(count("“grub rescue> ”: "), 1U) << out;
}

TEST(SymptomTool, TakesLinesFromAFileOrAPipeAndGivesJson) {
    const support::Folder folder;
    const auto file = folder.write("screen.txt", forge::to_bytes("Welcome to GRUB!\nerror: unknown filesystem.\n"));
    const auto command = std::string(TOOL_PATH) + " symptom --format json --seen-in ";
    const auto from_file = support::shell(command + file);
    EXPECT_EQ(support::shell("cat " + file + " | " + command + "-").out, from_file.out);
    const auto document = nlohmann::json::parse(from_file.out);
    EXPECT_EQ(document.at("schema"), "herberge/symptom/1");
    EXPECT_EQ(document.at("known"), true);
    EXPECT_EQ(document.at("milestones").at(0).at("line"), "Welcome to GRUB!");
    EXPECT_EQ(document.at("milestones").at(0).at("through"), "boot-code");
    const auto& cause = document.at("answers").at(0).at("causes").at(0);
    for (const char* key : {"code", "meaning", "fit", "screen", "line", "told_apart_by", "on_this_image"})
        EXPECT_TRUE(cause.contains(key)) << key;
    EXPECT_EQ(cause.at("on_this_image"), nullptr);
    EXPECT_EQ(cause.at("line"), "error: unknown filesystem.");
}
