// SPDX-License-Identifier: MIT
// Variable stores, boot options, device paths, images, and the walk of the kiosk.
#include <fmt/format.h>
#include <algorithm>

#include <openssl/evp.h>

#include <set>

#include "forge/sign.hpp"
#include "kiosk.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

Verdict walk(const Bytes& disk, const Bytes& flash, Machine& machine) {
    machine = support::machine_of(disk);
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    if (!flash.empty()) {
        auto variables = parse_uefi_flash(flash);
        EXPECT_TRUE(variables);
        if (variables) options.variables = std::move(*variables);
    }
    return check(machine, options);
}

std::string stage_of(const Verdict& verdict) {
    const auto& system = verdict.systems.front();
    return system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string(starts_id(system.starts));
}

class KioskStories : public testing::TestWithParam<std::size_t> {};
TEST_P(KioskStories, StopWhereTheyShould) {
    const auto story = demo::kiosk_stories().at(GetParam());
    const auto disk = story.disk();
    Machine machine;
    const auto verdict = walk(disk, story.variables(disk), machine);
    ASSERT_EQ(verdict.systems.size(), 1U);
    EXPECT_EQ(stage_of(verdict), story.stops_at.empty() ? "yes" : story.stops_at) << story.name;
}
INSTANTIATE_TEST_SUITE_P(Uefi, KioskStories, testing::Range<std::size_t>(0, demo::kiosk_stories().size()));

/// Every file that the menus' entries name, read through the verdict alone.
std::size_t readable_files(const Verdict& verdict) {
    std::size_t out = 0;
    for (const auto& menu : verdict.menus)
        for (const auto& entry : menu.entries)
            for (const auto& file : entry.kernel) {
                if (file.volume == nullptr) continue;
                const auto source = file.volume->files(Observer::Loader)->open(file.file, file.place);
                if (source && (*source)->bytes(0, 512)) ++out;
            }
    return out;
}

TEST(Lifetimes, AVerdictOutlivesTheMachineItWasMadeFrom) {
    Verdict bios, uefi;
    {
        bios = check(support::machine_of(demo::front_desk().build()));
        Machine machine;
        uefi = walk(demo::kiosk().build(), {}, machine);
    }
    EXPECT_GE(readable_files(bios), 1U);
    EXPECT_GE(readable_files(uefi), 1U);
}

TEST(Uefi, WithoutVariablesTheFallbackFileCountsAndThatIsSaid) {
    Machine machine;
    const auto verdict = walk(demo::kiosk().build(), {}, machine);
    EXPECT_EQ(stage_of(verdict), "yes");
    EXPECT_NE(verdict.systems.front().at(Stage::Firmware).text.find("no variables were given"), std::string::npos);
}

/// The kiosk with two boot options and no fallback file.
Verdict with_two_options(const std::function<void(forge::Tree&)>& change, const std::string& first,
                         const std::string& second) {
    auto kiosk = demo::kiosk();
    kiosk.esp.remove("/EFI/BOOT/BOOTX64.EFI");
    change(kiosk.esp);
    const auto disk = kiosk.build();
    const std::string global(UefiVariables::global);
    const auto option = [&](const std::string& title, const std::string& path) {
        return forge::make_boot_option(title, 1, demo::kiosk_partition_guid(disk, 1), path);
    };
    Machine machine;
    return walk(disk,
                forge::make_flash({{"BootOrder", global, {4, 0, 5, 0}},
                                   {"Boot0004", global, option("Check-in", first)},
                                   {"Boot0005", global, option("Other", second)}}),
                machine);
}
constexpr const char* checkin = "\\EFI\\almhof\\checkin.efi";

TEST(OwnLoader, ThatIsRefusedIsWhereItsSystemStopsThoughTheFirmwareGoesOn) {
    const auto verdict = with_two_options(
        [](forge::Tree& esp) {
            esp.at("/EFI/almhof/checkin.efi").content.resize(100);
            esp.file("/EFI/almhof/lamp.efi", forge::make_efi_application({{".text", Bytes(16)}}));
        },
        checkin, "\\EFI\\almhof\\lamp.efi");
    ASSERT_EQ(verdict.systems.size(), 1U);
    EXPECT_EQ(stage_of(verdict), "boot-code");
    const auto& rung = verdict.systems[0].at(Stage::BootCode);
    EXPECT_EQ(rung.findings, std::vector{Code::EfiImageRefused});
    EXPECT_EQ(rung.evidence.at(0).place, "d1p1:/EFI/almhof/checkin.efi");
    EXPECT_EQ(verdict.systems[0].at(Stage::Firmware).state, State::Holds);
    EXPECT_TRUE(verdict.systems[0].symptom.starts_with("BdsDxe: failed to load Boot0004"))
        << verdict.systems[0].symptom;
}

TEST(OwnLoader, WhoseFileIsGoneStopsAtTheFirmware) {
    const auto verdict = with_two_options(
        [](forge::Tree& esp) {
            esp.file("/EFI/almhof/lamp.efi", forge::make_efi_application({{".text", Bytes(16)}}));
            const std::string root = std::string("UUID=") + demo::kiosk_uuid;
            esp.file("/EFI/almhof/grub.cfg", std::string("menuentry 'Check-in' {\n search --fs-uuid --set=root ") +
                                                 demo::kiosk_uuid + "\n linux /boot/vmlinuz-" + demo::release +
                                                 " root=" + root + "\n}\n");
        },
        "\\EFI\\almhof\\gone.efi", "\\EFI\\almhof\\lamp.efi");
    ASSERT_EQ(verdict.systems.size(), 1U);
    EXPECT_EQ(stage_of(verdict), "firmware");
    EXPECT_EQ(verdict.systems[0].at(Stage::Firmware).findings, std::vector{Code::UefiOptionFileMissing});
    EXPECT_EQ(verdict.systems[0].at(Stage::Firmware).text,
              "Boot0004 “Check-in” names d1p1:/EFI/almhof/gone.efi, which is not there");
}

TEST(OwnLoader, AShimThatComesBackGivesTheNextOptionItsTurn) {
    const auto verdict = with_two_options(
        [](forge::Tree& esp) {
            esp.file("/EFI/almhof/shimx64.efi", forge::make_efi_application({{".vendor_cert", Bytes(16)}}));
        },
        "\\EFI\\almhof\\shimx64.efi", checkin);
    ASSERT_EQ(verdict.systems.size(), 1U);
    EXPECT_EQ(stage_of(verdict), "yes");
    EXPECT_TRUE(verdict.systems[0].entry_is_default);
    EXPECT_NE(verdict.systems[0].at(Stage::Firmware).text.find("before it: Boot0004 “Check-in” came back"),
              std::string::npos)
        << verdict.systems[0].at(Stage::Firmware).text;
    // What the shim missed is told all the same.
    EXPECT_TRUE(std::any_of(verdict.findings.begin(), verdict.findings.end(),
                            [](const Finding& f) { return f.code == Code::ShimSecondStageMissing; }));
}

TEST(OwnLoader, AShimWhoseSecondStageCannotBeReadSaysWhy) {
    auto parts = demo::kiosk();
    parts.esp.file("/EFI/BOOT/BOOTX64.EFI", forge::make_efi_application({{".vendor_cert", Bytes(16)}}));
    parts.esp.file("/EFI/BOOT/grubx64.efi", forge::make_efi_application({{".text", forge::noise(40000, 3)}}));
    auto disk = parts.build();
    const auto sound = support::machine_of(disk);
    const auto file = resolve(*sound.volume(1, 1)->files(Observer::Uefi), "/EFI/BOOT/grubx64.efi");
    ASSERT_TRUE(file);
    const auto bytes = sound.volume(1, 1)->files(Observer::Uefi)->open(file->file.id, "x");
    ASSERT_TRUE(bytes);
    const auto first = (*bytes)->locate(0, 1).front();
    Machine machine;
    machine.disks.push_back(inspect_disk(with_unreadable(memory_source(disk, "d1", 1), {{first.offset, 512}}), 1, "x"));
    const auto verdict = check(machine, {.firmware = FirmwareKind::Uefi});
    ASSERT_FALSE(verdict.systems.empty());
    EXPECT_EQ(stage_of(verdict), "loader");
    EXPECT_EQ(verdict.systems[0].symptom,
              "Failed to open \\EFI\\BOOT\\grubx64.efi - Device Error\nFailed to load image \\EFI\\BOOT\\grubx64.efi: "
              "Device Error\nstart_image() returned Device Error");
    EXPECT_EQ(verdict.systems[0].at(Stage::Loader).findings, std::vector{Code::ShimSecondStageRefused});
}

TEST(Uefi, BootOptionsLeadToFilesOrSayWhyNot) {
    const auto story = demo::kiosk_stories().front();
    const auto disk = story.disk();
    const auto machine = support::machine_of(disk);
    const std::string global(UefiVariables::global);
    auto states = [&](const std::string& path, bool active) {
        const auto variables = parse_uefi_flash(forge::make_flash(
            {{"BootOrder", global, {4, 0}},
             {"Boot0004", global,
              forge::make_boot_option("Almhof", 1, demo::kiosk_partition_guid(disk, 1), path, active)}}));
        return variables ? inspect_boot_options(machine, *variables) : std::vector<BootOptionState>{};
    };
    const auto good = states("\\EFI\\almhof\\checkin.efi", true);
    ASSERT_EQ(good.size(), 1U);
    EXPECT_EQ(good.front().place, "d1p1:/EFI/almhof/checkin.efi");
    EXPECT_EQ(good.front().problem, "");
    EXPECT_EQ(good.front().application, EfiApplication::SystemdBoot);
    const auto gone = states("\\EFI\\almhof\\gone.efi", true);
    ASSERT_EQ(gone.size(), 1U);
    EXPECT_EQ(gone.front().place, "");
    EXPECT_NE(gone.front().problem.find("d1p1:/EFI/almhof/gone.efi is not there"), std::string::npos);
    const auto slashes = states("/EFI/almhof/checkin.efi", true);
    ASSERT_EQ(slashes.size(), 1U);
    EXPECT_NE(slashes.front().problem.find("forward slashes"), std::string::npos);
    const auto menus = read_menus(machine);
    EXPECT_TRUE(std::ranges::any_of(
        menus, [](const Menu& m) { return m.place == "d1p1:/loader/loader.conf" && m.loader == "systemd-boot"; }));
}

struct Damage {
    const char* name;
    std::function<void(Bytes&)> change;
    const char* stage;
};
class Tables : public testing::TestWithParam<Damage> {};
TEST_P(Tables, AreJudgedAsTheFirmwareDoes) {
    auto disk = demo::kiosk().build();
    GetParam().change(disk);
    Machine machine;
    EXPECT_EQ(stage_of(walk(disk, {}, machine)), GetParam().stage);
}
INSTANTIATE_TEST_SUITE_P(
    Uefi, Tables,
    testing::Values(Damage{"PrimaryGoneBackupGood",
                           [](Bytes& d) { std::fill_n(d.begin() + 512, 33 * 512, std::uint8_t{0}); }, "yes"},
                    Damage{"ArrayDamagedBackupGood", [](Bytes& d) { d[1024 + 3000] ^= 1U; }, "yes"},
                    Damage{"BothGone",
                           [](Bytes& d) {
                               d[1024 + 3000] ^= 1U;
                               d[d.size() - 33 * 512 + 3000] ^= 1U;
                           },
                           "partition-table"},
                    Damage{"ProtectiveEntryStartsAtTwo", [](Bytes& d) { forge::put32(d, 446 + 8, 2); },
                           "partition-table"},
                    Damage{"ProtectiveSizeWrong", [](Bytes& d) { forge::put32(d, 446 + 12, 77); }, "yes"},
                    Damage{"BootSectorGone",
                           [](Bytes& d) { std::fill_n(d.begin() + 2048 * 512, 512, std::uint8_t{0}); }, "firmware"},
                    Damage{"NoSignatureOnTheFat", [](Bytes& d) { d[2048 * 512 + 510] = 0; }, "yes"}),
    support::by_name);

TEST(Variables, DeletedOnesAreSkippedAndOneBeingReplacedCountsUntilItIs) {
    const std::string global(UefiVariables::global);
    const auto flash = forge::make_flash({{"Lang", global, {1}, 0x3C},
                                          {"Lang", global, {2}, 0x3E},
                                          {"Timeout", global, {3, 0}, 0x3E},
                                          {"Timeout", global, {4, 0}, 0x3F}});
    const auto variables = parse_uefi_flash(flash);
    ASSERT_TRUE(variables);
    ASSERT_NE(variables->find("Lang"), nullptr);
    EXPECT_EQ(variables->find("Lang")->data, Bytes{2});
    EXPECT_EQ(variables->find("Timeout")->data, (Bytes{4, 0}));
    EXPECT_EQ(variables->all.size(), 2U);
}

TEST(Variables, HalfWrittenHeadersAndWildSizesAreBounded) {
    const std::string global(UefiVariables::global);
    const auto good =
        forge::make_flash({{"BootOrder", global, {4, 0}, 0x3F}, {"Boot0004", global, Bytes(40, 9), 0x3F}});
    for (std::size_t at = 72; at < 400; ++at)
        for (const std::uint8_t value : {std::uint8_t{0}, std::uint8_t{0xFF}}) {
            auto flash = good;
            flash[at] = value;
            if (const auto variables = parse_uefi_flash(flash)) (void)boot_options(*variables);
        }
    auto cut = good;
    cut[72 + 28 + 36 + 3] = 0x40;  // its name would be 1 GiB long
    const auto variables = parse_uefi_flash(cut);
    ASSERT_TRUE(variables);
    ASSERT_EQ(variables->findings.size(), 1U);
    EXPECT_EQ(variables->findings.front().code, Code::UefiVariableCut);
    EXPECT_FALSE(parse_uefi_flash(forge::noise(4096, 3)));
    EXPECT_FALSE(parse_uefi_flash({}));
}

TEST(DevicePaths, DecodeAndRefuseNonsense) {
    const auto option =
        forge::make_boot_option("Almhof", 3, "0a1b0f00-1111-4222-8333-444455556666", "\\EFI\\almhof\\checkin.efi");
    UefiVariables variables;
    variables.source = "test";
    variables.all = {{"BootOrder", std::string(UefiVariables::global), 7, {2, 0}},
                     {"Boot0002", std::string(UefiVariables::global), 7, option}};
    const auto options = boot_options(variables);
    ASSERT_EQ(options.size(), 1U);
    EXPECT_EQ(options[0].description, "Almhof");
    EXPECT_TRUE(options[0].path.whole);
    EXPECT_EQ(options[0].path.text(), "HD(3,GPT,0a1b0f00-1111-4222-8333-444455556666)/\\EFI\\almhof\\checkin.efi");
    // Nodes of length 0 and 3, and no end.
    for (const Bytes& bytes :
         {Bytes{4, 4, 0, 0}, Bytes{4, 4, 3, 0}, Bytes{4, 4, 200, 0, 1}, Bytes{}, Bytes{1, 1, 6, 0, 0, 0}})
        EXPECT_FALSE(decode_device_path(bytes).whole);
}

TEST(SignatureLists, OfSizeZeroOrBeyondTheEndAreCounted) {
    Bytes list = forge::guid_bytes("c1c41626-504c-4092-aca9-41f936934328");
    forge::put32(list, 16, 28 + 48);
    forge::put32(list, 20, 0);
    forge::put32(list, 24, 48);
    list.resize(28 + 48, 0xAB);
    EXPECT_EQ(parse_signature_lists(list).sha256.size(), 1U);
    for (const std::uint32_t size : {0U, 16U, 5000U}) {
        auto wrong = list;
        forge::put32(wrong, size == 5000U ? 16 : 24, size);
        const auto parsed = parse_signature_lists(wrong);
        EXPECT_EQ(parsed.damaged, 1U) << size;
        EXPECT_TRUE(parsed.empty());
    }
}

TEST(EfiImages, AreRefusedForWhatTheFirmwareRefuses) {
    const auto good = forge::make_efi_application();
    EXPECT_FALSE(refuse_efi_image(*support::source_of(good)));
    const auto refused = [](const Bytes& image) {
        const auto why = refuse_efi_image(*support::source_of(image));
        return why ? why->screen : std::string("started");
    };
    auto other = good;
    other[0] = 'X';
    EXPECT_EQ(refused(other), "Not Found");
    EXPECT_EQ(refused(forge::make_efi_application({}, 0xAA64)), "Unsupported");
    EXPECT_EQ(refused(forge::make_pe({0x8664, 2, {}, {}, true})), "Not Found") << "a subsystem of its own";
    EXPECT_EQ(refused(Bytes(good.begin(), good.end() - 200)), "Unsupported");
    auto small = good;
    forge::put32(small, 0x98 + 56, 0x100);
    EXPECT_EQ(refused(small), "Unsupported") << "less than its headers";
    forge::put32(small, 0x98 + 56, 0x1001);
    EXPECT_EQ(refused(small), "Load Error") << "less than its section";
    auto many = good;
    forge::put16(many, 0x86, 0xFFFF);
    EXPECT_EQ(refused(many), "Unsupported");
    auto certified = good;
    forge::put32(certified, 0x98 + 112 + 32, 0xFFFFFFF0U);
    forge::put32(certified, 0x98 + 112 + 36, 64);
    EXPECT_EQ(refused(certified), "Unsupported") << "its certificates leave the file";
    auto stripped = good;
    stripped[0x96] |= 1U;
    EXPECT_EQ(refused(stripped), "Not Found") << "no relocations, and linked for address 0";
    forge::put32(stripped, 0x98 + 24, 0x400000);
    EXPECT_EQ(refused(stripped), "started");
    const auto relocated = [&](std::uint32_t address, std::uint32_t size, std::uint32_t page, std::uint32_t block) {
        auto out = good;
        forge::put32(out, 0x98 + 112 + 40, address);
        forge::put32(out, 0x98 + 112 + 44, size);
        forge::put32(out, 0x200 + 64, page);
        forge::put32(out, 0x200 + 68, block);
        return refused(out);
    };
    EXPECT_EQ(relocated(0x1040, 12, 0x1000, 12), "started");
    EXPECT_EQ(relocated(0x9000, 12, 0x1000, 12), "Load Error") << "outside of the image";
    EXPECT_EQ(relocated(0x1040, 12, 0x1000, 0), "Load Error") << "a block of no length";
    EXPECT_EQ(relocated(0x1040, 12, 0x1000, 500), "Load Error");
    EXPECT_EQ(relocated(0x1040, 12, 0x7000, 12), "Load Error");
    auto appended = good;
    appended.resize(appended.size() + 1000, 0x55);
    EXPECT_EQ(refused(appended), "started");
    EXPECT_EQ(refused({}), "Not Found");
}

TEST(SecureBoot, AnUnsignedApplicationIsRefusedWhenItIsOn) {
    Machine machine = support::machine_of(demo::kiosk().build());
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    options.secure_boot = SecureBoot::On;
    const auto verdict = check(machine, options);
    EXPECT_EQ(stage_of(verdict), "boot-code");
    EXPECT_NE(verdict.systems.front().symptom.find("Access Denied"), std::string::npos);
}

// --- files -------------------------------------------------------------------------------------------------------

TEST(PeVersions, AreReadAndBounded) {
    constexpr std::uint32_t address = 0x2000;
    const auto resource =
        forge::make_version_resource(address, {10, 4, 19041, 7}, "Almhof Window Workplace", "Opens the window");
    const auto image = forge::make_efi_application({{".rsrc", resource}});
    const auto version = pe_version(*support::source_of(image));
    ASSERT_TRUE(version);
    EXPECT_EQ(version->file_version, "10.4.19041.7");
    EXPECT_EQ(version->product, "Almhof Window Workplace");
    EXPECT_EQ(version->description, "Opens the window");
    EXPECT_FALSE(pe_version(*support::source_of(forge::make_efi_application())));
    const auto begin = image.size() - (resource.size() + 511) / 512 * 512;
    for (std::size_t i = 0; i < resource.size(); ++i)
        for (const std::uint8_t value : {std::uint8_t{0}, std::uint8_t{0xFF}}) {
            auto damaged = image;
            damaged[begin + i] = value;
            (void)pe_version(*support::source_of(damaged));
        }
}

TEST(EfiFiles, AreListedWithWhoPointsAtThem) {
    const auto story = demo::kiosk_stories().front();
    auto kiosk = demo::kiosk();
    const forge::SigningKey key("Almhof workshop");
    kiosk.esp.file("/EFI/old/forgotten.efi",
                   key.sign(forge::make_efi_application(
                       {{".sbat", forge::to_bytes("sbat,1,SBAT Version,sbat,1,\nlamp,2,Almhof,lamp,0.9,\n")}})));
    kiosk.esp.file("/EFI/old/other.efi", forge::make_efi_application({}, 0xAA64))
        .file("/EFI/old/notes.txt", "no application\n");
    const auto disk = kiosk.build();
    const auto machine = support::machine_of(disk);
    const auto variables = parse_uefi_flash(story.variables(disk));
    ASSERT_TRUE(variables);
    const auto files = find_efi_files(machine, *variables);
    const auto at = [&](const std::string& place) -> const EfiFile& {
        static const EfiFile none;
        const auto found = std::ranges::find(files, place, &EfiFile::place);
        EXPECT_NE(found, files.end()) << place;
        return found != files.end() ? *found : none;
    };
    EXPECT_EQ(files.size(), 5U);
    EXPECT_EQ(at("d1p1:/EFI/BOOT/BOOTX64.EFI").named_by, std::vector<std::string>{"the firmware's fallback rule"});
    ASSERT_FALSE(at("d1p1:/EFI/almhof/checkin.efi").orphan());
    EXPECT_NE(at("d1p1:/EFI/almhof/checkin.efi").named_by.front().find("Boot0004"), std::string::npos);
    EXPECT_FALSE(at("d1p1:/EFI/Linux/checkin-4.efi").orphan()) << "the boot manager's menu";
    EXPECT_EQ(at("d1p1:/EFI/Linux/checkin-4.efi").version, "Almhof Check-in 4 (Steinbock)");
    EXPECT_TRUE(at("d1p1:/EFI/old/forgotten.efi").orphan());
    EXPECT_EQ(at("d1p1:/EFI/old/forgotten.efi").version, "lamp 0.9");
    ASSERT_EQ(at("d1p1:/EFI/old/forgotten.efi").signers.size(), 1U);
    EXPECT_EQ(at("d1p1:/EFI/old/forgotten.efi").signers.front(), "CN = Almhof workshop");
    EXPECT_EQ(at("d1p1:/EFI/old/other.efi").machine, "AArch64");
    EXPECT_FALSE(at("d1p1:/EFI/old/other.efi").problem.empty());
}

TEST(EfiFiles, AreLookedForBelowEfiAndAtTheTop) {
    auto kiosk = demo::kiosk();
    const auto application = forge::make_efi_application({});
    kiosk.esp.file("/shell.efi", application)
        .file("/tools/hidden.efi", application)
        .file("/EFI/1/2/3/4/deep.efi", application)
        .file("/EFI/1/2/3/4/5/deeper.efi", application);
    const auto machine = support::machine_of(kiosk.build());
    std::set<std::string> places;
    for (const auto& file : find_efi_files(machine, {}, EfiMachine::X64)) places.insert(file.place);
    EXPECT_TRUE(places.contains("d1p1:/shell.efi"));
    EXPECT_FALSE(places.contains("d1p1:/tools/hidden.efi")) << "no firmware and no loader looks there by itself";
    EXPECT_TRUE(places.contains("d1p1:/EFI/1/2/3/4/deep.efi"));
    EXPECT_FALSE(places.contains("d1p1:/EFI/1/2/3/4/5/deeper.efi"));
}

TEST(Uefi, TheTableIsShownThatLeadsToTheVolume) {
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    const auto machine = support::machine_of(demo::kiosk().build());
    const auto verdict = check(machine, options);
    const auto& rung = verdict.systems.at(0).at(Stage::PartitionTable);
    EXPECT_EQ(rung.state, State::Holds);
    EXPECT_EQ(rung.text, "the GPT leads to d1p1");
    ASSERT_EQ(rung.evidence.size(), 1U);
    EXPECT_EQ(rung.evidence[0].range, (DiskRange{1, 446, 64}));
}

/// shim lets an allowed digest count before any signature is looked at; the firmware behind them.
TEST(SecureBoot, AnAllowedDigestCountsBeforeOrBehindTheSignatures) {
    const forge::SigningKey key("Almhof short-lived");
    const auto image = key.sign(forge::make_efi_application());
    ImageTrust trust;
    trust.allowed.sha256.push_back(hex(*authenticode_digest(*support::source_of(image), "SHA256"), ""));
    const auto refused = [&] { return trust.refuse(*support::source_of(image)).value_or("runs"); };
    EXPECT_EQ(refused(), "runs");
    trust.denied.certificates.push_back(key.certificate());
    EXPECT_EQ(refused(), "its signer is on the deny list (dbx)");
    trust.digests_first = true;
    EXPECT_EQ(refused(), "runs");
    trust.allowed.sha256.front()[0] ^= 1;
    EXPECT_EQ(refused(), "its signer is on the deny list (dbx)");
    trust.denied.certificates.clear();
    EXPECT_EQ(refused(), "its signer (CN = Almhof short-lived) is not allowed");
}

TEST(Uefi, ThirtyTwoBitFirmwareTakesItsOwnFilesOnly) {
    auto kiosk = demo::kiosk();
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    options.efi_machine = EfiMachine::Ia32;
    auto machine = support::machine_of(kiosk.build());
    const auto nothing = check(machine, options);
    EXPECT_EQ(stage_of(nothing), "firmware") << "there is no BOOTIA32.EFI";
    EXPECT_NE(nothing.systems.front()
                  .at(Stage::Firmware)
                  .text.find("d1p1:/EFI/BOOT/BOOTX64.EFI is there, for 64-bit PC firmware"),
              std::string::npos);
    // The usual mistake: the 64-bit file under the 32-bit name.
    kiosk.esp.file("/EFI/BOOT/BOOTIA32.EFI", kiosk.esp.at("/EFI/BOOT/BOOTX64.EFI").content);
    machine = support::machine_of(kiosk.build());
    const auto wrong = check(machine, options);
    EXPECT_EQ(stage_of(wrong), "boot-code");
    EXPECT_NE(wrong.systems.front().at(Stage::BootCode).text.find("the firmware is i386"), std::string::npos);
    kiosk.esp.file("/EFI/BOOT/BOOTIA32.EFI",
                   forge::make_efi_application({{".sdmagic", forge::to_bytes("#### a stand-in ####")}}, 0x14C));
    machine = support::machine_of(kiosk.build());
    const auto mixed = check(machine, options);
    EXPECT_EQ(stage_of(mixed), "kernel") << "a 64-bit kernel is no image for this firmware";
    EXPECT_NE(mixed.systems.front().at(Stage::Kernel).text.find("the firmware is i386"), std::string::npos);
}

/// A shim of our own with a vendor certificate, a policy, and a second stage beside it.
struct ShimDisk {
    forge::SigningKey firmware{"Almhof firmware"};
    forge::SigningKey vendor{"Almhof vendor"};
    std::string shim_sbat = "sbat,1,SBAT Version,sbat,1,\nshim,2,Almhof,shim,1,\n";
    std::string second_sbat = "sbat,1,SBAT Version,sbat,1,\ngrub,3,Almhof,grub2,2.06,\n";
    std::string embedded = "sbat,1,2022052400\ngrub,2\n";
    std::vector<forge::Variable> variables;
    bool sign_second = true;
    std::function<void(Bytes&)> spoil = [](Bytes&) {};        ///< the second stage, signed or not
    std::function<void(Bytes&)> spoil_first = [](Bytes&) {};  ///< the signed shim

    std::set<Code> found;  ///< by the last call
    std::string stage(std::string* screen = nullptr) {
        Bytes certificate;
        const Bytes own = vendor.certificate();
        forge::put32(certificate, 0, static_cast<std::uint32_t>(own.size()));
        forge::put32(certificate, 4, 0);
        forge::put32(certificate, 8, 16);
        forge::put32(certificate, 12, 16);
        certificate.insert(certificate.end(), own.begin(), own.end());
        Bytes level;
        forge::put32(level, 0, 0);
        forge::put32(level, 4, 8);
        forge::put32(level, 8, 8);
        const Bytes policy = forge::to_bytes(embedded + '\0');
        level.insert(level.end(), policy.begin(), policy.end());
        auto kiosk = demo::kiosk();
        const Bytes shim = forge::make_efi_application(
            {{".vendor_cert", certificate}, {".sbat", forge::to_bytes(shim_sbat)}, {".sbatlevel", level}});
        Bytes second = forge::make_efi_application(
            {{".sdmagic", forge::to_bytes("#### a stand-in ####")}, {".sbat", forge::to_bytes(second_sbat)}});
        if (sign_second) second = vendor.sign(second);
        spoil(second);
        Bytes first = firmware.sign(shim);
        spoil_first(first);
        kiosk.esp.file("/EFI/BOOT/BOOTX64.EFI", first).file("/EFI/BOOT/grubx64.efi", second);
        const auto nodes = kiosk.esp.nodes();
        for (const auto& [path, node] : nodes)
            if (path.starts_with("/EFI/Linux/")) kiosk.esp.at(path).content = vendor.sign(node.content);
        const auto disk = kiosk.build();
        auto all = variables;
        const Bytes allowed = forge::make_certificate_list({firmware.certificate()});
        all.push_back({"PK", std::string(UefiVariables::global), allowed});
        all.push_back({"db", std::string(UefiVariables::security), allowed});
        Machine machine;
        const auto verdict = walk(disk, forge::make_flash(all), machine);
        found.clear();
        for (const auto& finding : verdict.findings) found.insert(finding.code);
        if (screen != nullptr) *screen = verdict.systems.front().symptom;
        const auto& system = verdict.systems.front();
        // What the kernel makes of modules without signatures is another matter.
        return system.stops_at && *system.stops_at < Stage::Root ? std::string(stage_id(*system.stops_at))
                                                                 : "kernel runs";
    }
};
constexpr const char* shim_guid = "605dab50-e046-4300-abb6-3dd810dd8b23";

TEST(Shim, StartsWhatItsVendorSigned) {
    EXPECT_EQ(ShimDisk().stage(), "kernel runs");
    ShimDisk unsigned_one;
    unsigned_one.sign_second = false;
    std::string screen;
    EXPECT_EQ(unsigned_one.stage(&screen), "loader");
    EXPECT_NE(screen.find("Security Violation"), std::string::npos);
}

/// What its own loader cannot make sense of it says before it asks who signed it.
TEST(Shim, LooksAtTheImageBeforeItsSignature) {
    const auto ends = [](std::string_view message, std::string_view status) {
        return fmt::format("{}\nFailed to read header: {}\nFailed to load image: {}\nstart_image() returned {}",
                           message, status, status, status);
    };
    const std::tuple<std::function<void(Bytes&)>, std::string> rows[] = {
        {[](Bytes& b) { b[0] = 0; }, ends("Platform does not support this image", "Unsupported")},
        {[](Bytes& b) { forge::put16(b, forge::get32(b, 0x3C) + 4, 0x14C); },
         ends("Platform does not support this image", "Unsupported")},
        {[](Bytes& b) { b.resize(b.size() / 2); }, ends("Malformed security header", "Invalid Parameter")},
    };
    for (const auto& [spoil, screen] : rows) {
        ShimDisk disk;
        disk.spoil = spoil;
        std::string shown;
        EXPECT_EQ(disk.stage(&shown), "loader");
        EXPECT_EQ(shown, screen);
        EXPECT_TRUE(disk.found.contains(Code::ShimSecondStageRefused));
    }
}

/// The boot menu looks for the marks of an image; who signed it is asked before the rest of it is looked at.
TEST(SecureBoot, ADamagedImageIsRefusedByWhatIsAskedFirst) {
    const std::pair<std::function<void(Bytes&)>, std::string> rows[] = {
        {[](Bytes& b) { b[0] = 0; }, "Not Found"},
        {[](Bytes& b) { b.resize(b.size() / 2); }, "Access Denied"},
    };
    for (const auto& [spoil, status] : rows) {
        ShimDisk disk;
        disk.spoil_first = spoil;
        std::string shown;
        EXPECT_EQ(disk.stage(&shown), "boot-code") << status;
        EXPECT_NE(shown.find("BdsDxe: failed to load Boot… \"…\" from …: " + status), std::string::npos) << shown;
    }
}

TEST(Shim, RefusesOldGenerations) {
    ShimDisk by_own_policy;
    by_own_policy.embedded = "sbat,1,2023012900\ngrub,4\n";
    EXPECT_EQ(by_own_policy.stage(), "loader");
    ShimDisk by_variable;
    by_variable.variables = {{"SbatLevel", shim_guid, forge::to_bytes("sbat,1,2024010900\ngrub,4\n")}};
    EXPECT_EQ(by_variable.stage(), "loader");
    ShimDisk older_variable;
    older_variable.variables = {{"SbatLevel", shim_guid, forge::to_bytes("sbat,1,2021030218\ngrub,9\n")}};
    EXPECT_EQ(older_variable.stage(), "kernel runs") << "the newer policy counts";
    EXPECT_TRUE(older_variable.found.contains(Code::RamdiskModulesUnsigned));
    ShimDisk nothing;
    nothing.second_sbat.clear();
    EXPECT_EQ(nothing.stage(), "loader") << "a second stage without the section";
    ShimDisk itself;
    itself.variables = {{"SbatLevel", shim_guid, forge::to_bytes("sbat,1,2024010900\nshim,4\n")}};
    std::string screen;
    EXPECT_EQ(itself.stage(&screen), "loader");
    EXPECT_TRUE(itself.found.contains(Code::ShimRevoked));
    EXPECT_NE(screen.find("SBAT self-check failed"), std::string::npos);
}

TEST(Shim, OwnersListsCount) {
    ShimDisk denied;
    denied.variables = {{"MokListX", shim_guid, forge::make_certificate_list({denied.vendor.certificate()})}};
    EXPECT_EQ(denied.stage(), "loader");
    EXPECT_TRUE(denied.found.contains(Code::ShimSecondStageRefused));
    // An image's own digest on the list, and that of another.
    constexpr std::string_view sha256 = "c1c41626-504c-4092-aca9-41f936934328";
    for (const bool its_own : {true, false}) {
        ShimDisk by_digest;
        by_digest.spoil = [&](const Bytes& second) {
            const auto pe = inspect_pe(*support::source_of(second));
            auto digest = forge::image_digest(
                Bytes(second.begin(), second.begin() + static_cast<std::ptrdiff_t>(pe->certificates_offset)));
            if (!its_own) digest[31] ^= 1U;
            by_digest.variables = {{"MokListX", shim_guid, forge::make_signature_list(sha256, {digest})}};
        };
        EXPECT_EQ(by_digest.stage(), its_own ? "loader" : "kernel runs");
    }
}

TEST(SecureBoot, ACertificateIsRevokedByItsDigest) {
    const forge::SigningKey key("Almhof short-lived");
    const auto image = key.sign(forge::make_efi_application());
    ImageTrust trust;
    trust.allowed.certificates.push_back(key.certificate());
    EXPECT_FALSE(trust.refuse(*support::source_of(image)));
    // The signed part is the first element inside the certificate's outer one.
    const auto der = key.certificate();
    const std::size_t at = 4;
    const std::size_t length = 4U + static_cast<std::size_t>(der[at + 2] << 8U | der[at + 3]);
    Bytes digest(32);
    unsigned size = 0;
    EVP_Digest(der.data() + at, length, digest.data(), &size, EVP_sha256(), nullptr);
    trust.denied.revoked.push_back({"SHA256", hex(digest, ""), {}});
    EXPECT_TRUE(trust.refuse(*support::source_of(image)));
    ImageTrust by_sha384;
    by_sha384.allowed.other_digests.emplace_back("SHA384",
                                                 hex(*authenticode_digest(*support::source_of(image), "SHA384"), ""));
    EXPECT_FALSE(by_sha384.refuse(*support::source_of(image)));
}

TEST(Authenticode, CertificateTablesOfAnySizeAreBounded) {
    const forge::SigningKey key("Almhof workshop");
    const auto image = key.sign(forge::make_efi_application());
    ASSERT_EQ(image_signatures(*support::source_of(image)).size(), 1U);
    EXPECT_TRUE(image_signatures(*support::source_of(image)).front().digest_matches);
    const std::size_t entry = 0x98 + 112 + 32;
    ImageTrust trust;
    trust.allowed.certificates.push_back(key.certificate());
    // Past the end, longer than the file, of no length, and one byte off.
    for (const auto& [at, size] : std::vector<std::pair<std::uint32_t, std::uint32_t>>{
             {0xFFFFFFF0U, 64}, {512, 0xFFFFFFFFU}, {1024, 0}, {1025, 800}}) {
        auto wrong = image;
        forge::put32(wrong, entry, at);
        forge::put32(wrong, entry + 4, size);
        EXPECT_TRUE(trust.refuse(*support::source_of(wrong))) << at;
    }
    // Any byte of the signature turned around: an answer, and nothing lost or read twice on the way.
    for (std::size_t i = forge::get32(image, entry); i < image.size(); i += 7) {
        auto wrong = image;
        wrong[i] ^= 0xFFU;
        (void)trust.refuse(*support::source_of(wrong));
        EXPECT_LE(image_signatures(*support::source_of(wrong)).size(), 1U) << i;
    }
}

TEST(Sbat, LinesThatAreNoneAreSkipped) {
    EXPECT_EQ(parse_sbat("sbat,1,x\n\n,3\ngrub\ngrub,x\nshim,4\r\n").size(), 2U);
    EXPECT_TRUE(parse_sbat("").empty());
}

TEST(Authenticode, DigestLeavesOutChecksumAndBytesOutsideMatter) {
    const auto image = forge::make_efi_application({{".room", forge::noise(3000, 1)}});
    auto other = image;
    other[0x98 + 64] ^= 0xFFU;
    EXPECT_EQ(*authenticode_digest(*support::source_of(image), "SHA256"),
              *authenticode_digest(*support::source_of(other), "SHA256"));
    other[0x400] ^= 1U;
    EXPECT_NE(*authenticode_digest(*support::source_of(image), "SHA256"),
              *authenticode_digest(*support::source_of(other), "SHA256"));
    ImageTrust trust;
    trust.by = "the firmware";
    ASSERT_TRUE(trust.refuse(*support::source_of(image)));
    trust.allowed.sha256.push_back(hex(*authenticode_digest(*support::source_of(image), "SHA256"), ""));
    EXPECT_FALSE(trust.refuse(*support::source_of(image))) << "a digest in the database is enough";
    trust.denied.sha256 = trust.allowed.sha256;
    EXPECT_TRUE(trust.refuse(*support::source_of(image))) << "the deny list wins";
}

}  // namespace
