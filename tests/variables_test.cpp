// SPDX-License-Identifier: MIT
// UEFI variables: what a start takes from them, and each of them field by field.
#include <algorithm>

#include <set>

#include "forge/sign.hpp"
#include "kiosk.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

const std::string global(UefiVariables::global);
constexpr const char* systemd = "4a67b082-0a4c-41cf-b6c7-440b29bb8c4f";

const Field* field_of(const VariableView& view, std::string_view name) {
    const auto found = std::ranges::find(view.fields, name, &Field::name);
    return found != view.fields.end() ? &*found : nullptr;
}

/// Fields follow each other without holes or overlaps, and end where the data ends.
void expect_gapless(const VariableView& view, std::size_t size) {
    std::uint64_t at = 0;
    for (const auto& f : view.fields) {
        EXPECT_EQ(f.offset, at) << f.name;
        at = f.offset + f.size;
    }
    EXPECT_EQ(at, size);
}

TEST(VariableFields, ALoadOptionIsTakenApartToItsLastByte) {
    const auto data = forge::make_boot_option("Almhof Check-in", 3, "0a1b0f00-1111-4222-8333-444455556666",
                                              "\\EFI\\almhof\\checkin.efi", true, forge::utf16("quiet"));
    const auto view = view_variable({"Boot0004", global, 7, data});
    EXPECT_EQ(view.kind, "load option");
    EXPECT_EQ(view.attributes, "non-volatile, boot services, run time");
    expect_gapless(view, data.size());
    ASSERT_NE(field_of(view, "description"), nullptr);
    EXPECT_EQ(field_of(view, "description")->value, "Almhof Check-in");
    ASSERT_NE(field_of(view, "node 1.signature"), nullptr);
    EXPECT_EQ(field_of(view, "node 1.signature")->meaning, "partition 0a1b0f00-1111-4222-8333-444455556666");
    EXPECT_EQ(field_of(view, "node 2.path")->value, "\\EFI\\almhof\\checkin.efi");
    EXPECT_EQ(field_of(view, "node 3.type")->meaning, "the end");
    EXPECT_EQ(field_of(view, "optional_data")->value, "“quiet”");
}

/// UEFI specification, 3.1.3: six bytes, the description to its zero, the path.
TEST(VariableFields, ADescriptionEndsWithItsZero) {
    const std::pair<std::string, std::size_t> rows[] = {{"", 2}, {"A", 4}, {"Al", 6}, {"Alm", 8}, {"Zur Alm", 16}};
    for (const auto& [title, size] : rows) {
        const auto data =
            forge::make_boot_option(title, 3, "0a1b0f00-1111-4222-8333-444455556666", "\\EFI\\a.efi", false);
        const auto view = view_variable({"Boot0004", global, 7, data});
        const auto* description = field_of(view, "description");
        ASSERT_NE(description, nullptr) << title;
        EXPECT_EQ(description->offset, 6U) << title;
        EXPECT_EQ(description->size, size) << title;
        EXPECT_EQ(description->value, title);
        ASSERT_NE(field_of(view, "node 1.type"), nullptr) << title;
        EXPECT_EQ(field_of(view, "node 1.type")->offset, 6 + size) << title;
        expect_gapless(view, data.size());
        EXPECT_TRUE(view.fields.front().meaning.starts_with("not active")) << view.fields.front().meaning;
    }
}

TEST(VariableFields, SignatureListsNameTheirCertificatesAndTimes) {
    const forge::SigningKey key("Almhof house");
    Bytes entry = key.signed_part_digest();
    const Bytes time = forge::efi_time(2025, 7, 1);
    entry.insert(entry.end(), time.begin(), time.end());
    Bytes data = forge::make_certificate_list({key.certificate()});
    const Bytes second = forge::make_signature_list("3bd2a492-96c0-4079-b420-fcf98ef103ed", {entry});
    data.insert(data.end(), second.begin(), second.end());
    const auto view = view_variable({"dbx", std::string(UefiVariables::security), 0x27, data});
    EXPECT_EQ(view.kind, "signature lists");
    EXPECT_EQ(view.attributes, "non-volatile, boot services, run time, authenticated by time");
    expect_gapless(view, data.size());
    EXPECT_EQ(field_of(view, "list 1.type")->meaning, "X.509 certificates");
    EXPECT_TRUE(field_of(view, "list 1.1.data")->meaning.starts_with("CN = Almhof house, by CN = Almhof house"));
    EXPECT_EQ(field_of(view, "list 2.1.data")->meaning, "revoked from 2025-07-01 00:00:00 UTC on");
    // Sizes of 0 and beyond the end: what fits is shown, then it stops.
    for (const std::size_t at : {16U, 20U, 24U})
        for (const std::uint32_t value : {0U, 1U, 27U, 0xFFFFFFFFU}) {
            Bytes wrong = data;
            forge::put32(wrong, at, value);
            EXPECT_LE(view_variable({"db", std::string(UefiVariables::security), 7, wrong}).fields.size(), 200U);
        }
}

TEST(VariableFields, OrdersNumbersAndWhatIsNotKnown) {
    const auto order = view_variable({"BootOrder", global, 7, {4, 0, 1, 0x10}});
    ASSERT_EQ(order.fields.size(), 2U);
    EXPECT_EQ(order.fields[0].value, "Boot0004");
    EXPECT_EQ(order.fields[1].value, "Boot1001");
    EXPECT_EQ(view_variable({"Timeout", global, 7, {5, 0}}).fields.front().value, "5 (0x5)");
    EXPECT_TRUE(view_variable({"Lamp", global, 7, Bytes(33, 1)}).kind.empty());
    EXPECT_TRUE(view_variable({"Boot0001", global, 7, {}}).fields.empty());
}

/// A node whose body is 10h, 11h, 12h …
Bytes with_body(std::uint8_t type, std::uint8_t subtype, std::size_t size) {
    Bytes out{type, subtype, static_cast<std::uint8_t>(size + 4), 0};
    for (std::size_t i = 0; i < size; ++i) out.push_back(static_cast<std::uint8_t>(0x10 + i));
    return out;
}

TEST(EfiTime, IsSecondsOfTheYear1970On) {
    // UEFI 2.10, 8.3: year, month, day, hour, minute, second, and what is not looked at here.
    const Bytes time{0xE9, 0x07, 7, 1, 12, 34, 56, 0, 1, 2, 3, 4, 5, 6, 7, 8};
    const std::int64_t seconds = 1751373296;  // 2025-07-01 12:34:56
    EXPECT_EQ(efi_time_seconds(time), seconds);
    const std::pair<std::size_t, std::int64_t> steps[] = {{0, 365 * 86400}, {2, 31 * 86400}, {3, 86400},
                                                          {4, 3600},        {5, 60},         {6, 1}};
    for (const auto& [at, step] : steps) {
        Bytes later = time;
        ++later[at];
        EXPECT_EQ(efi_time_seconds(later), seconds + step) << at;
    }
    for (std::size_t at = 7; at < 16; ++at) {
        Bytes other = time;
        ++other[at];
        EXPECT_EQ(efi_time_seconds(other), seconds) << at;
    }
    EXPECT_EQ(efi_time_seconds(std::span(time).first(15)), std::nullopt);
    EXPECT_EQ(efi_time_seconds(Bytes(16)), std::nullopt) << "no time";
    Bytes zone(16);
    zone[7] = zone[15] = 1;
    EXPECT_EQ(efi_time_seconds(zone), std::nullopt);
    Bytes second(16);
    second[6] = 1;
    EXPECT_TRUE(efi_time_seconds(second));
}

struct PathCase {
    const char* name;
    Bytes node;
    const char* text;
};
class DevicePathTexts : public testing::TestWithParam<PathCase> {};
TEST_P(DevicePathTexts, FollowTheSpecification) {
    Bytes path = GetParam().node;
    forge::put32(path, path.size(), 0x0004FF7F);
    const auto decoded = decode_device_path(path);
    EXPECT_TRUE(decoded.whole);
    EXPECT_EQ(decoded.text(), GetParam().text);
    for (std::size_t cut = 0; cut < path.size(); ++cut) {
        EXPECT_FALSE(decode_device_path(std::span(path).first(cut)).whole);
        (void)annotate_device_path(std::span(path).first(cut));
    }
}
INSTANTIATE_TEST_SUITE_P(
    Uefi, DevicePathTexts,
    testing::Values(
        PathCase{"PciRoot", {2, 1, 12, 0, 0xD0, 0x41, 0x03, 0x0A, 0, 0, 0, 0}, "PciRoot(0x0)"},
        PathCase{"Pci", {1, 1, 6, 0, 2, 0x1F}, "Pci(0x1f,0x2)"},
        PathCase{"Sata", {3, 18, 10, 0, 1, 0, 0xFF, 0xFF, 0, 0}, "Sata(0x1,0xffff,0x0)"},
        PathCase{"Nvme", {3, 23, 16, 0, 1, 0, 0, 0, 8, 7, 6, 5, 4, 3, 2, 1}, "NVMe(0x1,01-02-03-04-05-06-07-08)"},
        PathCase{"Usb", {3, 5, 6, 0, 4, 0}, "USB(0x4,0x0)"},
        PathCase{"Uri", {3, 24, 11, 0, 'h', 't', 't', 'p', ':', '/', '/'}, "Uri(http://)"},
        PathCase{"Optical", {4, 2, 24, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, "CDROM(1)"},
        PathCase{"HardDriveByMbr",
                 {4, 1, 42, 0,    2,    0,    0,    0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 8, 0, 0, 0,
                  0, 0, 0,  0x70, 0x0F, 0x1B, 0x0A, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 1},
                 "HD(2,MBR,0a1b0f70)"},
        PathCase{"Scsi", {3, 2, 8, 0, 3, 0, 1, 2}, "Scsi(0x3,0x201)"},
        PathCase{"ScsiCut", {3, 2, 7, 0, 3, 0, 1}, "Msg(2)"},
        PathCase{"Mac", with_body(3, 11, 33), "MAC(10:11:12:13:14:15)"},
        PathCase{"MacAtItsEdge", with_body(3, 11, 32), "MAC(10:11:12:13:14:15)"},
        PathCase{"MacCut", with_body(3, 11, 31), "Msg(11)"},
        PathCase{"Ipv4", with_body(3, 12, 23), "IPv4(20.21.22.23)"},
        PathCase{"Ipv4AtItsEdge", with_body(3, 12, 8), "IPv4(20.21.22.23)"},
        PathCase{"Ipv4Cut", with_body(3, 12, 7), "Msg(12)"}, PathCase{"Ipv6", with_body(3, 13, 56), "IPv6"},
        PathCase{"SdCard", {3, 26, 5, 0, 2}, "SD(0x2)"}, PathCase{"SdWithoutASlot", {3, 26, 4, 0}, "Msg(26)"},
        PathCase{"Emmc", {3, 29, 5, 0, 7}, "eMMC(0x7)"}, PathCase{"EmmcWithoutASlot", {3, 29, 4, 0}, "Msg(29)"},
        PathCase{"UsbClass", with_body(3, 15, 7), "UsbClass"}, PathCase{"Iscsi", with_body(3, 19, 14), "iSCSI"},
        PathCase{"VendorsMessage", with_body(3, 10, 16), "VenMsg(13121110-1514-1716-1819-1a1b1c1d1e1f)"},
        PathCase{"VendorsMessageCut", with_body(3, 10, 15), "Msg(10)"},
        PathCase{"VendorsHardware", with_body(1, 4, 16), "VenHw(13121110-1514-1716-1819-1a1b1c1d1e1f)"},
        PathCase{"VendorsHardwareCut", with_body(1, 4, 15), "HardwarePath(4)"},
        PathCase{"Memory", with_body(1, 3, 20), "MemoryMapped"},
        PathCase{"Controller", with_body(1, 5, 4), "Controller"}, PathCase{"AcpiCut", with_body(2, 1, 7), "ACPI"},
        PathCase{"AcpiLonger", with_body(2, 2, 12), "ACPI"}, PathCase{"HardDriveCut", with_body(4, 1, 37), "Media(1)"},
        PathCase{"OpticalCut", with_body(4, 2, 19), "CDROM"},
        PathCase{"VendorsMedium", with_body(4, 3, 16), "VenMedia(13121110-1514-1716-1819-1a1b1c1d1e1f)"},
        PathCase{"FileOfAVolume", with_body(4, 6, 16), "FvFile(13121110-1514-1716-1819-1a1b1c1d1e1f)"},
        PathCase{"FirmwareVolume", with_body(4, 7, 16), "Fv(13121110-1514-1716-1819-1a1b1c1d1e1f)"},
        PathCase{"FirmwareVolumeCut", with_body(4, 7, 15), "Media(7)"},
        PathCase{"Offset", with_body(4, 8, 20), "Offset"}, PathCase{"RamDisk", with_body(4, 9, 34), "RamDisk"},
        PathCase{"BootSpecification", {5, 1, 12, 0, 2, 0, 0, 0, 'i', 'n', 'n', 0}, "BBS(inn)"},
        PathCase{"BootSpecificationCut", {5, 1, 8, 0, 2, 0, 0, 0}, "BBS"},
        PathCase{"OfNoKind", {9, 3, 4, 0}, "Path(9,3)"}, PathCase{"Unknown", {3, 99, 4, 0}, "Msg(99)"}),
    support::by_name);

// --- the store -------------------------------------------------------------------------------------------------------

/// A flash image with working block and spare area behind the store, as the firmware leaves it when the power fails
/// while it rewrites the store.
Bytes interrupted(const Bytes& old_store, const Bytes& new_store, std::uint8_t record_state) {
    constexpr std::size_t block = 4096;
    const std::size_t room = (old_store.size() + block - 1) / block * block;
    Bytes flash = old_store;
    flash.resize(room, 0xFF);
    const std::size_t working = flash.size();
    flash.resize(working + block, 0xFF);
    const std::size_t spare = flash.size();
    flash.insert(flash.end(), new_store.begin(), new_store.end());
    flash.resize(spare + room, 0xFF);
    const Bytes mark = forge::guid_bytes("9e58292b-7c68-497d-a0ce-6500fd9f1b95");
    std::copy(mark.begin(), mark.end(), flash.begin() + static_cast<std::ptrdiff_t>(working));
    flash[working + 20] = 0xFE;  // valid
    forge::put64(flash, working + 24, block - 32);
    const std::size_t head = working + 32;
    flash[head] = 0xFC;  // header and writes are there, not complete
    forge::put64(flash, head + 24, 1);
    forge::put64(flash, head + 32, 0);
    const std::size_t record = head + 40;
    flash[record] = record_state;
    forge::put64(flash, record + 8, 0);
    forge::put64(flash, record + 16, 0);
    forge::put64(flash, record + 24, old_store.size());
    forge::put64(flash, record + 32, static_cast<std::uint64_t>(-static_cast<std::int64_t>(spare)));
    return flash;
}

TEST(VariableStore, AnInterruptedRewriteIsFinishedAsTheFirmwareWould) {
    const auto before = forge::make_flash({{"Timeout", global, {3, 0}}});
    const auto after = forge::make_flash({{"Timeout", global, {9, 0}}});
    const auto pending = parse_uefi_flash(interrupted(before, after, 0xFD));
    ASSERT_TRUE(pending);
    ASSERT_NE(pending->find("Timeout"), nullptr);
    EXPECT_EQ(pending->find("Timeout")->data, (Bytes{9, 0}));
    ASSERT_EQ(pending->findings.size(), 1U);
    EXPECT_EQ(pending->findings.front().code, Code::UefiVariablesRewritten);
    for (const std::uint8_t state : {std::uint8_t{0xFF}, std::uint8_t{0xF9}}) {
        const auto done = parse_uefi_flash(interrupted(before, after, state));
        ASSERT_TRUE(done);
        EXPECT_EQ(done->find("Timeout")->data, (Bytes{3, 0})) << "the copy is not complete, or was taken over";
        EXPECT_TRUE(done->findings.empty());
    }
    // Sizes in the working block that lie.
    const auto good = interrupted(before, after, 0xFD);
    const std::size_t working = (before.size() + 4095) / 4096 * 4096;
    for (std::size_t at = working + 24; at < working + 112; at += 8)
        for (const std::uint64_t value : {std::uint64_t{0}, ~std::uint64_t{0}, std::uint64_t{1} << 40U}) {
            auto wrong = good;
            forge::put64(wrong, at, value);
            EXPECT_TRUE(parse_uefi_flash(wrong));
        }
}

// --- what loaders take from variables --------------------------------------------------------------------------------

struct Chosen {
    Machine machine;
    Verdict verdict;
    explicit Chosen(const Bytes& disk, const std::vector<forge::Variable>& variables)
        : machine(support::machine_of(disk)) {
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        options.variables = *parse_uefi_flash(forge::make_flash(variables));
        verdict = check(machine, options);
    }
    [[nodiscard]] std::string entry() const {
        return verdict.systems.front().route.empty() ? "" : verdict.systems.front().route.back();
    }
    [[nodiscard]] std::string text(Stage stage) const { return verdict.systems.front().at(stage).text; }
};

TEST(BootManagerVariables, OneShotThenMenuChoiceThenFile) {
    auto kiosk = demo::kiosk();
    const auto disk = kiosk.build();
    Machine machine = support::machine_of(disk);
    const auto chosen = [&](const std::vector<forge::Variable>& variables) {
        const auto menus = read_menus(machine, *parse_uefi_flash(forge::make_flash(variables)));
        const auto found = std::ranges::find(menus, "systemd-boot", &Menu::loader);
        return found != menus.end() ? found->default_setting + (found->default_matches ? "" : " (no entry)")
                                    : std::string("no menu");
    };
    EXPECT_EQ(chosen({}), "checkin-*");
    EXPECT_EQ(chosen({{"LoaderEntryDefault", systemd, forge::utf16("checkin-4.efi")}}), "checkin-4.efi");
    EXPECT_EQ(chosen({{"LoaderEntryDefault", systemd, forge::utf16("gone.efi")}}), "checkin-*")
        << "one that is gone does not count";
    EXPECT_EQ(chosen({{"LoaderEntryOneShot", systemd, forge::utf16("checkin-*")},
                      {"LoaderEntryDefault", systemd, forge::utf16("other")}}),
              "checkin-*");
}

TEST(ShimOptions, ASecondStageByNameAndTheListsOfRemovableMedia) {
    const Bytes shim = forge::make_efi_application({{".vendor_cert", Bytes(16)}});
    const Bytes manager = demo::kiosk().esp.at("/EFI/BOOT/BOOTX64.EFI").content;
    std::set<Code> met;
    const auto start = [&](auto change, const Bytes& optional, bool by_option = true) {
        auto kiosk = demo::kiosk();
        kiosk.esp.remove("/EFI/BOOT/BOOTX64.EFI");
        kiosk.esp.file("/EFI/almhof/shimx64.efi", shim);
        change(kiosk.esp);
        const auto disk = kiosk.build();
        std::vector<forge::Variable> variables;
        if (by_option)
            variables = {{"BootOrder", global, {4, 0}},
                         {"Boot0004", global,
                          forge::make_boot_option("Almhof", 1, demo::kiosk_partition_guid(disk, 1),
                                                  "\\EFI\\almhof\\shimx64.efi", true, optional)}};
        const Chosen chosen(disk, variables);
        for (const auto& finding : chosen.verdict.findings) met.insert(finding.code);
        const auto& system = chosen.verdict.systems.front();
        return system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string("starts");
    };
    const auto beside = [&](forge::Tree& esp) { esp.file("/EFI/almhof/lamp.efi", manager); };
    const auto above = [&](forge::Tree& esp) { esp.file("/EFI/lamp.efi", manager); };
    EXPECT_EQ(start([](forge::Tree&) {}, {}), "loader") << "its own second stage is not there";
    EXPECT_EQ(start(beside, forge::utf16("\\lamp.efi")), "starts");
    EXPECT_EQ(start(beside, forge::utf16("lamp.efi")), "starts");
    EXPECT_EQ(start(beside, forge::utf16("shimx64.efi \\lamp.efi")), "starts")
        << "a shell hands over the program's name first";
    EXPECT_EQ(start(above, forge::utf16("\\EFI\\lamp.efi")), "starts") << "from the volume's root";
    EXPECT_EQ(start(above, forge::utf16("\\lamp.efi")), "loader");
    EXPECT_EQ(
        start([&](forge::Tree& esp) { esp.file("/EFI/almhof/grubx64.efi", manager); }, forge::utf16("\\gone.efi")),
        "starts")
        << "a name that leads nowhere gives way to the built-in one";
    EXPECT_EQ(start(beside, {0x46, 0x4A, 0x00}), "loader") << "bytes that are no text leave the built-in name";
    EXPECT_EQ(start([&](forge::Tree& esp) { esp.file("/EFI/almhof/grubx64.efi", shim); }, {}), "loader")
        << "a shim that starts itself for ever";
    // Removable media's rule: the helper beside shim goes by the lists of the installed systems.
    const auto listed = [&](forge::Tree& esp) {
        esp.file("/EFI/BOOT/BOOTX64.EFI", shim)
            .file("/EFI/BOOT/fbx64.efi", forge::make_efi_application({}))
            .file("/EFI/almhof/grubx64.efi", manager);
        Bytes list{0xFF, 0xFE};
        for (const auto b : forge::utf16("shimx64.efi,Almhof,,\n", false)) list.push_back(b);
        esp.file("/EFI/almhof/BOOTX64.CSV", list);
    };
    EXPECT_EQ(start(listed, {}, false), "starts");
    EXPECT_EQ(start(
                  [&](forge::Tree& esp) {
                      listed(esp);
                      esp.remove("/EFI/almhof/BOOTX64.CSV");
                  },
                  {}, false),
              "loader");
    EXPECT_EQ(start(
                  [&](forge::Tree& esp) {
                      listed(esp);
                      esp.remove("/EFI/almhof/shimx64.efi");
                  },
                  {}, false),
              "loader");
    // Of a list the first line counts: up to its comma a file that is there, beside the list.
    const std::pair<std::string, std::string> lists[] = {
        {"shimx64.efi,Almhof,,\n", "starts"}, {"s,Almhof\n", "starts"}, {"\\s,Almhof\r\nlamp.efi,\n", "starts"},
        {",Almhof,,\ns,Almhof\n", "loader"},  {"s\n", "loader"},        {"", "loader"},
        {"t,Almhof\ns,Almhof\n", "loader"},
    };
    for (const auto& [text, stage] : lists)
        EXPECT_EQ(start(
                      [&, &text = text](forge::Tree& esp) {
                          listed(esp);
                          esp.file("/EFI/almhof/s", shim);
                          Bytes list{0xFF, 0xFE};
                          for (const auto b : forge::utf16(text, false)) list.push_back(b);
                          esp.file("/EFI/almhof/BOOTX64.CSV", list);
                      },
                      {}, false),
                  stage)
            << text;
    for (const Code code : {Code::LoaderLoop, Code::ShimFallback, Code::ShimDefaultInstead, Code::ShimFallbackNothing})
        EXPECT_TRUE(met.contains(code)) << code;
}

TEST(DirectKernel, TheOptionsTextIsItsCommandLine) {
    const auto desk = demo::front_desk();
    const auto nodes = desk.root.nodes();
    const auto kernel =
        std::find_if(nodes.begin(), nodes.end(), [](const auto& n) { return n.first.starts_with("/boot/vmlinuz-"); });
    ASSERT_NE(kernel, nodes.end());
    const auto start = [&](const std::string& text, bool with_ramdisk) {
        auto kiosk = demo::kiosk();
        kiosk.esp.remove("/EFI/BOOT/BOOTX64.EFI");
        kiosk.esp.file("/EFI/almhof/kernel.efi", forge::with_efi_stub(kernel->second.content));
        if (with_ramdisk) kiosk.esp.file("/EFI/almhof/ramdisk", forge::gzip(forge::make_cpio(desk.ramdisk)));
        const auto disk = kiosk.build();
        return Chosen(disk, {{"BootOrder", global, {4, 0}},
                             {"Boot0004", global,
                              forge::make_boot_option("Kernel", 1, demo::kiosk_partition_guid(disk, 1),
                                                      "\\EFI\\almhof\\kernel.efi", true, forge::utf16(text))}});
    };
    const std::string root = std::string("root=UUID=") + demo::kiosk_uuid + " ro";
    const auto good = start(root + " initrd=\\EFI\\almhof\\ramdisk", true);
    const auto stage = [](const Chosen& c) {
        const auto& s = c.verdict.systems.front();
        return s.stops_at ? std::string(stage_id(*s.stops_at)) : std::string(starts_id(s.starts));
    };
    EXPECT_EQ(stage(good), "yes") << good.text(Stage::BootCode) << good.text(Stage::Kernel);
    const auto gone = start(root + " initrd=\\EFI\\almhof\\gone", true);
    EXPECT_EQ(stage(gone), "ramdisk");
    EXPECT_NE(gone.verdict.systems.front().symptom.find("Failed to open file"), std::string::npos);
    EXPECT_EQ(stage(start("root=UUID=0badcafe-0000-4000-8000-000000000000 initrd=\\EFI\\almhof\\ramdisk", true)),
              "root");
}

/// An option whose path says how the disk is attached, in front of the drive's own node.
forge::Variable attached(const Bytes& disk, const Bytes& node, const std::string& text) {
    auto option = forge::make_boot_option("Kernel", 1, demo::kiosk_partition_guid(disk, 1), "\\EFI\\almhof\\kernel.efi",
                                          true, forge::utf16(text));
    const std::size_t path = 6 + forge::utf16("Kernel").size();
    option.insert(option.begin() + static_cast<std::ptrdiff_t>(path), node.begin(), node.end());
    option[4] = static_cast<std::uint8_t>(option[4] + node.size());
    return {"Boot0004", global, option};
}

TEST(Controllers, TheFirmwaresOptionTellsWhichDriverIsNeeded) {
    auto desk = demo::front_desk();
    const auto nodes = desk.root.nodes();
    const auto kernel =
        std::find_if(nodes.begin(), nodes.end(), [](const auto& n) { return n.first.starts_with("/boot/vmlinuz-"); });
    const auto config =
        std::find_if(nodes.begin(), nodes.end(), [](const auto& n) { return n.first.starts_with("/boot/config-"); });
    ASSERT_NE(config, nodes.end());
    const std::string text = std::string("root=UUID=") + demo::kiosk_uuid + " ro initrd=\\EFI\\almhof\\ramdisk";
    const auto start = [&](const Bytes& node, bool with_config) {
        auto kiosk = demo::kiosk();
        kiosk.esp.remove("/EFI/BOOT/BOOTX64.EFI");
        kiosk.esp.file("/EFI/almhof/kernel.efi", forge::with_efi_stub(kernel->second.content));
        kiosk.esp.file("/EFI/almhof/ramdisk", forge::gzip(forge::make_cpio(desk.ramdisk)));
        if (!with_config) kiosk.root.remove(config->first);
        if (with_config) kiosk.esp.file("/EFI/almhof/" + config->first.substr(6), config->second.content);
        const auto disk = kiosk.build();
        return Chosen(disk, {{"BootOrder", global, {4, 0}}, attached(disk, node, text)});
    };
    const Bytes nvme = {3, 23, 16, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0};
    const Bytes sata = {3, 18, 10, 0, 0, 0, 0xFF, 0xFF, 0, 0};
    const Bytes usb = {3, 5, 6, 0, 1, 0};
    const Bytes emmc = {3, 29, 5, 0, 0};
    const Bytes scsi = {3, 2, 8, 0, 0, 0, 0, 0};
    const auto stage = [](const Chosen& c) {
        const auto& s = c.verdict.systems.front();
        return s.stops_at ? std::string(stage_id(*s.stops_at)) : std::string(starts_id(s.starts));
    };
    EXPECT_EQ(stage(start(sata, true)), "yes");
    EXPECT_EQ(stage(start(scsi, true)), "yes") << "adapters of every kind look the same there";
    for (const auto& [node, name] : {std::pair(nvme, "NVMe"), std::pair(usb, "USB"), std::pair(emmc, "eMMC and SD")}) {
        const auto broken = start(node, true);
        EXPECT_EQ(stage(broken), "root") << name;
        EXPECT_NE(broken.text(Stage::Root).find(std::string("says that the disk is attached by ") + name),
                  std::string::npos)
            << broken.text(Stage::Root);
        EXPECT_TRUE(std::ranges::any_of(broken.verdict.findings,
                                        [](const Finding& f) { return f.code == Code::RamdiskNoControllerDriver; }));
        // Where nothing tells what the kernel has built in, the absence of a module tells nothing.
        EXPECT_NE(stage(start(node, false)), "root") << name;
    }
    const auto told = start(sata, true);
    EXPECT_NE(told.text(Stage::Root)
                  .find("drivers for AHCI/ATA (ahci), virtio-blk (virtio_pci); none for NVMe, virtio-scsi, SCSI and "
                        "SAS adapters, USB, eMMC and SD"),
              std::string::npos)
        << told.text(Stage::Root);
}

}  // namespace
