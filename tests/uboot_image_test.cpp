// SPDX-License-Identifier: MIT
// What U-Boot asks of images beyond their sums: signatures, names, trees laid over trees, Android's images and slots.
// The images are those that the systems' own makers write (mkimage, dtc, mkbootimg).
#include <fmt/format.h>

#include "artifact/image_signature.hpp"
#include "board_support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
using support::load_both;
using support::ScriptCard;

namespace {

void sh(const Folder& folder, const std::string& command) {
    const auto ran = support::shell(fmt::format("cd {} && {}", folder.file(""), command));
    ASSERT_EQ(ran.status, 0) << command << "\n" << ran.out;
}

Bytes compiled(const std::string& text, const std::string& options = "") {
    const Folder folder;
    folder.write("source", forge::to_bytes(text));
    sh(folder, "dtc -q " + options + " -O dtb -o target source");
    return support::file_bytes(folder.file("target"));
}

// --- signatures -----------------------------------------------------------------------------------------------------

/// An image tree that mkimage signs, and U-Boot's own tree with the key.
struct Signed {
    Bytes image, control;
    /// `in`: what the kernel's node, and what the configuration, holds besides.
    Signed(const std::string& in_kernel, const std::string& in_configuration, const std::string& control_text = "",
           const std::string& options = "") {
        const Folder folder;
        ScriptCard card("");
        folder.write("kernel", card.files.at("/Image").content);
        folder.write("disk", card.files.at("/disk.img").content);
        folder.write("control.dts",
                     forge::to_bytes("/dts-v1/; / { compatible = \"almhof,station\"; " + control_text + " };"));
        folder.write("its", forge::to_bytes(fmt::format(
                                R"(/dts-v1/; / {{ description = "Station"; #address-cells = <1>;
images {{
 kernel-1 {{ description = "the kernel"; data = /incbin/("kernel"); type = "kernel"; arch = "arm64"; os = "linux";
  compression = "none"; load = <0x42000000>; entry = <0x42000000>; hash-1 {{ algo = "sha256"; }}; {} }};
 disk-1 {{ description = "the RAM disk"; data = /incbin/("disk"); type = "ramdisk"; arch = "arm64"; os = "linux";
  compression = "none"; hash-1 {{ algo = "sha256"; }}; }}; }};
configurations {{ default = "conf-1"; conf-1 {{ description = "all"; kernel = "kernel-1"; ramdisk = "disk-1"; {} }}; }}; }};)",
                                in_kernel, in_configuration)));
        sh(folder,
           "mkdir keys && openssl genrsa -out keys/inn.key 2048 2>/dev/null && "
           "openssl req -batch -new -x509 -key keys/inn.key -out keys/inn.crt && "
           "dtc -q -p 8192 -O dtb -o control.dtb control.dts && "
           "mkimage -f its -k keys -K control.dtb -r " +
               options + " image.itb");
        image = support::file_bytes(folder.file("image.itb"));
        control = support::file_bytes(folder.file("control.dtb"));
    }
    [[nodiscard]] ImageKeys keys() const { return image_keys(*DeviceTree::open(*memory_source(control, "control"))); }
    [[nodiscard]] SignatureCheck configuration() const {
        const auto fit = Fit::open(memory_source(image, "image.itb"));
        return fit ? check_configuration(*fit, "conf-1", keys()) : SignatureCheck{};
    }
    /// In place: the first occurrence of some text becomes another of the same length.
    void change(std::string_view from, std::string_view to) {
        const auto at = std::search(image.begin(), image.end(), from.begin(), from.end());
        ASSERT_NE(at, image.end()) << from;
        std::ranges::copy(to, at);
    }
    /// As on a board whose flash holds a U-Boot with that tree.
    [[nodiscard]] support::BoardVerdict board(bool verifies = true) const {
        auto flash = forge::make_uboot({{"bootcmd", "load mmc 0:1 0x50000000 /image.itb; bootm 0x50000000"},
                                        {"bootargs", "root=UUID=" + std::string(demo::station_root_uuid)}});
        const auto add = [&flash](std::string_view text) {
            flash.insert(flash.end(), text.begin(), text.end());
            flash.push_back(0);
        };
        add("U-Boot 2024.01 (almhof)");
        for (const auto* command : {"load", "bootm"}) add(command);
        if (verifies) add("Signature checking prevents use of unit addresses");
        flash.resize((flash.size() + 7) / 8 * 8);
        flash.insert(flash.end(), control.begin(), control.end());
        ScriptCard card("");
        card.files.remove("/Image").remove("/Image.old").remove("/disk.img").file("/image.itb", image);
        return {card.build(), "uboot-arm64", flash};
    }
};

const std::string by_inn =
    R"(signature-1 { algo = "sha256,rsa2048"; key-name-hint = "inn"; sign-images = "kernel", "ramdisk"; };)";
const std::string kernel_by_inn = R"(signature-1 { algo = "sha256,rsa2048"; key-name-hint = "inn"; };)";
using Outcome = SignatureCheck::Outcome;

TEST(ImageSignatures, HoldForWhatTheyCover) {
    Signed made("", by_inn);
    ASSERT_TRUE(made.keys().demands("conf"));
    EXPECT_EQ(made.keys().keys.at(0).name, "key-inn");
    EXPECT_EQ(made.keys().keys.at(0).modulus.size(), 256U);
    EXPECT_EQ(made.configuration().outcome, Outcome::Holds) << made.configuration().text;
    const auto board = made.board();
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Kernel).text;
    // A word of a node that it covers.
    made.change("the kernel", "a kernel  ");
    EXPECT_EQ(made.configuration().outcome, Outcome::Fails);
    EXPECT_EQ(made.configuration().text, "its signature does not match its content");
    EXPECT_EQ(made.configuration().node, "/configurations/conf-1/signature-1");
    const auto changed = made.board();
    EXPECT_EQ(changed.stage(), "kernel");
    EXPECT_EQ(changed.why(), Code::UbootSignatureRefused);
    EXPECT_EQ(
        changed.system().at(Stage::Kernel).text,
        "U-Boot demands that the configuration conf-1 of d1p1:/image.itb is signed by key-inn: its signature does "
        "not match its content");
    EXPECT_EQ(changed.system().symptom,
              "Failed to verify required signature 'key-inn'\nBad Data Hash\nERROR: can't get kernel image!\n=>");
    // A U-Boot that was built without the check starts it.
    EXPECT_EQ(made.board(false).stage(), "yes");
}

TEST(ImageSignatures, OtherKindsHoldToo) {
    for (const std::string kind :
         {R"(algo = "sha1,rsa2048";)", R"(algo = "sha512,rsa2048";)", R"(algo = "sha256,rsa2048"; padding = "pss";)"}) {
        Signed made("", "signature-1 { " + kind + R"( key-name-hint = "inn"; sign-images = "kernel"; };)");
        EXPECT_EQ(made.configuration().outcome, Outcome::Holds) << kind << made.configuration().text;
        made.change("the kernel", "a kernel  ");
        EXPECT_EQ(made.configuration().outcome, Outcome::Fails) << kind;
    }
    // Data behind the tree are not covered by themselves, only by their hashes.
    Signed outside("", by_inn, "", "-E");
    EXPECT_EQ(outside.configuration().outcome, Outcome::Holds) << outside.configuration().text;
    EXPECT_EQ(outside.board().stage(), "yes");
}

TEST(ImageSignatures, ThoseOfAnImage) {
    Signed made(kernel_by_inn, "");
    ASSERT_TRUE(made.keys().demands("image"));
    const auto of = [&] {
        const auto fit = Fit::open(memory_source(made.image, "image.itb"));
        return check_image(*fit, *fit->image("kernel-1"), made.keys());
    };
    EXPECT_EQ(of().outcome, Outcome::Holds) << of().text;
    // Every image must be signed then, the RAM disk as well.
    const auto board = made.board();
    EXPECT_EQ(board.why(), Code::UbootSignatureRefused);
    EXPECT_EQ(board.system().at(*board.system().stops_at).text,
              "U-Boot demands that the RAM disk disk-1 of d1p1:/image.itb is signed by key-inn: it is not signed");
    made.change("6.1.0-almhof", "6.1.1-almhof");
    EXPECT_EQ(of().outcome, Outcome::Fails);
}

TEST(ImageSignatures, ThatAreMissingOrByAnother) {
    const Signed wanted("", by_inn);
    Signed other("", by_inn);
    other.control = wanted.control;
    EXPECT_EQ(other.configuration().outcome, Outcome::Fails);
    Signed plain("", "");
    EXPECT_TRUE(plain.keys().keys.empty());
    EXPECT_EQ(plain.configuration().outcome, Outcome::Holds) << "nothing is demanded";
    plain.control = wanted.control;
    EXPECT_EQ(plain.configuration().text, "it is not signed");
    EXPECT_EQ(plain.board().why(), Code::UbootSignatureRefused);
    // One of several is enough where the tree says so.
    auto keys = wanted.keys();
    keys.keys.push_back(other.keys().keys.empty() ? keys.keys.front() : other.keys().keys.front());
    const auto fit = Fit::open(memory_source(wanted.image, "image.itb"));
    keys.keys.insert(keys.keys.begin(), keys.keys.front());
    keys.keys.front().modulus[5] ^= 1;
    EXPECT_EQ(check_configuration(*fit, "conf-1", keys).outcome, Outcome::Fails);
    keys.any = true;
    EXPECT_EQ(check_configuration(*fit, "conf-1", keys).outcome, Outcome::Holds);
    // An unknown kind is no fault.
    Signed unknown("", by_inn);
    unknown.change("sha256,rsa2048", "sha256,rsb2048");
    EXPECT_EQ(unknown.configuration().outcome, Outcome::Unknown);
    EXPECT_EQ(unknown.board().stage(), "unknown");
}

TEST(ImageSignatures, NamesWithAnAtAreRefusedByWhoVerifies) {
    for (const std::string name : {"kernel-1", "conf-1", "hash-1"}) {
        Signed made("", "");
        auto with = name;
        with[with.size() - 2] = '@';
        // Names of nodes, and the texts that refer to them.
        for (auto at = made.image.begin();; ++at) {
            at = std::search(at, made.image.end(), name.begin(), name.end());
            if (at == made.image.end()) break;
            std::ranges::copy(with, at);
        }
        const auto refused = made.board();
        EXPECT_EQ(refused.stage(), "kernel") << name;
        EXPECT_EQ(refused.system().at(Stage::Kernel).text,
                  "the image tree d1p1:/image.itb is refused: its node " + with +
                      " has an @ in its name, which a U-Boot that verifies signatures does not allow");
        EXPECT_EQ(made.board(false).stage(), "yes") << name;
    }
}

// --- trees ----------------------------------------------------------------------------------------------------------

const char* base_text = R"(/dts-v1/; / { compatible = "almhof,station"; model = "Station"; numbers = <1 2 0x30>;
 vane: vane@0 { status = "disabled"; }; };)";
const char* overlay_text =
    R"(/dts-v1/; /plugin/; &vane { status = "okay"; remark = "in the wind of the upper meadow"; };)";
const char* stranger_text = R"(/dts-v1/; /plugin/; &snow { status = "okay"; };)";

ScriptCard tree_card(const std::string& commands) {
    ScriptCard card(load_both + "setenv size ${filesize}\nload mmc 0:1 0x43000000 /base.dtb\n" + commands +
                    "\nbooti 0x42000000 0x48000000:${size} 0x43000000");
    card.files.file("/base.dtb", compiled(base_text, "-@"))
        .file("/more.dtbo", compiled(overlay_text, "-@"))
        .file("/snow.dtbo", compiled(stranger_text, "-@"));
    return card;
}

TEST(DeviceTrees, AreLaidOverOneAnother) {
    const auto open = [](const Bytes& bytes) { return *DeviceTree::open(*memory_source(bytes, "tree")); };
    const auto base = open(compiled(base_text, "-@"));
    const auto laid = base.with_overlay(open(compiled(overlay_text, "-@")), 4096);
    ASSERT_TRUE(laid);
    EXPECT_EQ(laid->text(laid->node("/vane@0"), "status"), "okay");
    EXPECT_EQ(base.text(base.node("/vane@0"), "status"), "disabled");
    const auto stranger = base.with_overlay(open(compiled(stranger_text, "-@")), 4096);
    ASSERT_FALSE(stranger);
    EXPECT_EQ(stranger.error().kind, ErrorKind::Malformed);
    EXPECT_EQ(stranger.error().found, "FDT_ERR_NOTFOUND");
    const auto cramped = base.with_overlay(open(compiled(overlay_text, "-@")), 0);
    ASSERT_FALSE(cramped);
    EXPECT_EQ(cramped.error().kind, ErrorKind::TooLarge);
    // Without names of its own nothing can be laid over it.
    EXPECT_FALSE(open(compiled(base_text)).with_overlay(open(compiled(overlay_text, "-@")), 4096));
}

TEST(DeviceTrees, CommandsWorkOnThem) {
    const auto whole =
        "fdt addr 0x43000000\nfdt resize 0x2000\nload mmc 0:1 0x44000000 /more.dtbo\nfdt apply 0x44000000";
    EXPECT_EQ(tree_card(whole).board().stage(), "yes");
    const auto stranger =
        tree_card("fdt addr 0x43000000\nfdt resize 0x2000\nload mmc 0:1 0x44000000 /snow.dtbo\nfdt apply 0x44000000")
            .board();
    EXPECT_EQ(stranger.stage(), "kernel");
    EXPECT_EQ(stranger.why(), Code::UbootTreeRefused);
    EXPECT_EQ(
        stranger.system().at(Stage::Kernel).text,
        "the overlay d1p1:/snow.dtbo does not fit the device tree d1p1:/base.dtb: it refers to something that the "
        "tree does not have");
    const auto cramped =
        tree_card("fdt addr 0x43000000\nload mmc 0:1 0x44000000 /more.dtbo\nfdt apply 0x44000000").board();
    EXPECT_EQ(cramped.stage(), "kernel");
    EXPECT_NE(cramped.system().at(Stage::Kernel).text.find("there is no room for it behind the tree"),
              std::string::npos);
    // A script that takes the plain tree again after that.
    EXPECT_EQ(tree_card("fdt addr 0x43000000\nload mmc 0:1 0x44000000 /snow.dtbo\nfdt apply 0x44000000 || load mmc 0:1 "
                        "0x43000000 /base.dtb")
                  .board()
                  .stage(),
              "yes");
    const std::pair<const char*, const char*> values[] = {
        {"fdt get value x / model; test \"$x\" = Station", "yes"},
        {"fdt get value x / numbers 2; test $x = 0x00000030", "yes"},
        {"fdt get value x /vane@0 status; test $x = disabled", "yes"},
        {"fdt get value x /none status", "configuration"},
        {"fdt get value x / none", "configuration"},
    };
    for (const auto& [commands, stage] : values) {
        ScriptCard card = tree_card("");
        card.script = "load mmc 0:1 0x43000000 /base.dtb\nfdt addr 0x43000000\nif " + std::string(commands) +
                      "; then\n" + load_both + "booti 0x42000000 0x48000000:${filesize}\nfi";
        EXPECT_EQ(card.board().stage(), stage) << commands;
    }
}

TEST(DeviceTrees, MemoryThatTheyKeepIsLookedAt) {
    const auto of = [](const std::string& reg) {
        auto card = tree_card("");
        card.files.file(
            "/base.dtb",
            compiled("/dts-v1/; / { compatible = \"almhof,station\"; #address-cells = <1>; #size-cells = <1>; "
                     "reserved-memory { #address-cells = <1>; #size-cells = <1>; ranges; vane@0 { reg = <" +
                     reg + ">; no-map; }; }; };"));
        return card.board();
    };
    const auto over = of("0x42100000 0x1000 0x42001000 0x1000");
    EXPECT_EQ(over.stage(), "yes");
    const auto found = std::ranges::find(over.verdict.findings, Code::UbootReservedMemory, &Finding::code);
    ASSERT_NE(found, over.verdict.findings.end());
    EXPECT_EQ(found->text,
              "d1p1:/Image is loaded to 0x42000000, into memory that the device tree d1p1:/base.dtb keeps for vane@0");
    EXPECT_EQ(found->evidence.at(0).found, "0x42001000 to 0x42002000");
    // Behind the kernel's last byte, and before its first.
    const auto size = forge::make_arm64_image("6.1.0-almhof-armmp").size();
    EXPECT_FALSE(of(fmt::format("{:#x} 0x1000", 0x42000000 + size)).has(Code::UbootReservedMemory));
    EXPECT_TRUE(of(fmt::format("{:#x} 0x1000", 0x42000000 + size - 1)).has(Code::UbootReservedMemory));
    EXPECT_FALSE(of("0x41fff000 0x1000").has(Code::UbootReservedMemory));
}

// --- Android --------------------------------------------------------------------------------------------------------

struct AndroidCase {
    ScriptCard card;
    Bytes image, vendor;
    std::string before = "quiet";  ///< the variable bootargs
    AndroidCase(const std::string& options, const std::string& script,
                const std::string& kernel_options = "--kernel kernel --ramdisk disk")
        : card(script) {
        const Folder folder;
        folder.write("kernel", card.files.at("/Image").content);
        folder.write("disk", card.files.at("/disk.img").content);
        folder.write("tree", compiled(base_text));
        const auto arguments = "root=UUID=" + std::string(demo::station_root_uuid);
        sh(folder, fmt::format("mkbootimg {} {} --cmdline '{}' -o image", kernel_options, options, arguments));
        image = support::file_bytes(folder.file("image"));
        if (std::filesystem::exists(folder.file("vendor"))) vendor = support::file_bytes(folder.file("vendor"));
        card.files.remove("/Image").remove("/Image.old").remove("/disk.img");
    }
    [[nodiscard]] support::BoardVerdict board() {
        card.files.file("/boot.img", image);
        if (!vendor.empty()) card.files.file("/vendor.img", vendor);
        const auto arguments = "setenv bootargs " + before + "\n";
        card.files.file("/boot.scr", forge::make_legacy_image(forge::to_bytes(arguments + card.script), {.type = 6}));
        return {card.build(), "uboot-arm64"};
    }
};
constexpr std::uint8_t fdt_magic[] = {0xD0, 0x0D, 0xFE, 0xED};
const std::string load_android = "load mmc 0:1 0x50000000 /boot.img\n";

TEST(AndroidImages, OfEachVersionAreStarted) {
    for (const int version : {0, 1, 2}) {
        AndroidCase made(
            fmt::format("--header_version {} --pagesize 2048{}", version, version == 2 ? " --dtb tree" : ""),
            load_android + "bootm 0x50000000");
        const auto board = made.board();
        EXPECT_EQ(board.stage(), "yes") << version << board.system().at(Stage::Entry).text;
        EXPECT_EQ(board.system().at(Stage::Ramdisk).state, State::Holds) << version;
        EXPECT_EQ(board.system().at(Stage::Root).state, State::Holds) << "by the image's own command line";
    }
    AndroidCase second("--header_version 0 --second tree", load_android + "bootm 0x50000000");
    EXPECT_EQ(second.board().stage(), "yes");
    // The RAM disk can be left out.
    AndroidCase without("--header_version 0", load_android + "bootm 0x50000000 -");
    EXPECT_EQ(without.board().stage(), "ramdisk");
}

TEST(AndroidImages, WithAPartOfTheVendors) {
    const std::string script =
        load_android + "load mmc 0:1 0x60000000 /vendor.img\nabootimg addr 0x50000000 0x60000000\n";
    for (const int version : {3, 4}) {
        AndroidCase made(
            "--header_version 3 --vendor_boot vendor --vendor_ramdisk disk --dtb tree "
            "--vendor_cmdline console=ttyS0",
            script + "bootm 0x50000000");
        // Version 4 has further fields behind those of version 3, in the same page.
        made.image[40] = made.vendor[8] = static_cast<std::uint8_t>(version);
        const auto board = made.board();
        EXPECT_EQ(board.stage(), "yes") << version << board.system().at(Stage::Entry).text
                                        << board.system().at(Stage::Ramdisk).text;
    }
}

/// The address is kept in variables, which the other words of the command go by.
TEST(AndroidImages, LieWhereTheVariablesSay) {
    const auto printed = [](const std::string& commands) { return support::Typed(commands).printed(); };
    EXPECT_EQ(printed("abootimg addr 1000 && echo $abootimg_addr -$vendor_boot_comp_addr_r-"), "1000 --|");
    EXPECT_EQ(printed("abootimg addr 1000 2000 && echo $abootimg_addr $vendor_boot_comp_addr_r"), "1000 2000|");
    EXPECT_EQ(printed("abootimg addr snow || echo no"), "no|");
    EXPECT_EQ(printed("abootimg addr || echo short; abootimg get ver || echo nothing there"), "short|nothing there|");
    EXPECT_EQ(printed("load mmc 0:1 1000 a.txt; abootimg addr 1000; abootimg get ver x || echo none"), "none|");
    AndroidCase made("--header_version 2 --pagesize 2048 --dtb tree",
                     load_android +
                         "abootimg addr 0x50000000\nabootimg get ver v\nabootimg get dtb --index=0 a s\n"
                         "if test $v = 2 -a $a = 5000d800; then bootm 0x50000000; fi");
    // The tree lies behind the head, the kernel and the RAM disk, each of whole pages.
    const auto at =
        std::search(made.image.begin() + 2048, made.image.end(), std::begin(fdt_magic), std::end(fdt_magic)) -
        made.image.begin();
    made.card.script.replace(made.card.script.find("5000d800"), 8, fmt::format("{:x}", 0x50000000 + at));
    EXPECT_EQ(made.board().stage(), "yes");
}

TEST(AndroidImages, DamagedOnesAreToldApart) {
    const auto of = [](auto change) {
        AndroidCase made("--header_version 2 --dtb tree", load_android + "bootm 0x50000000");
        change(made.image);
        made.before = "root=UUID=" + std::string(demo::station_root_uuid);
        const auto board = made.board();
        return board.stage() + ": " + board.system().at(*board.system().stops_at).text;
    };
    EXPECT_EQ(of([](Bytes& b) { b[0] = 'B'; }), "kernel: d1p1:/boot.img is neither a legacy image nor an image tree");
    EXPECT_EQ(of([](Bytes& b) { b.resize(200000); }),
              "kernel: the Android image d1p1:/boot.img is refused: it is cut short");
    EXPECT_EQ(of([](Bytes& b) { b[36] = 3; }),
              "kernel: the Android image d1p1:/boot.img is refused: its pages have 2051 bytes");
    EXPECT_EQ(of([](Bytes& b) { b[40] = 9; }),
              "kernel: the Android image d1p1:/boot.img is refused: its header has version 9");
    EXPECT_EQ(of([](Bytes& b) { std::fill_n(b.begin() + 8, 4, std::uint8_t{0}); }),
              "kernel: the Android image d1p1:/boot.img holds no kernel");
    // Every length at its extremes.
    for (const std::size_t at : {8U, 16U, 24U, 1632U, 1648U})
        for (const std::uint8_t value : {std::uint8_t{0}, std::uint8_t{0xFF}}) {
            AndroidCase made("--header_version 2 --dtb tree", load_android + "bootm 0x50000000");
            std::fill_n(made.image.begin() + static_cast<std::ptrdiff_t>(at), 4, value);
            EXPECT_FALSE(made.board().verdict.systems.empty());
        }
}

/// A disk with a part for the record of slots.
struct Slots {
    Machine machine;
    loader::uboot::Outcome outcome;
    explicit Slots(std::array<std::uint16_t, 4> states, std::uint8_t count = 2, bool sound = true) {
        Bytes misc(64U << 10U);
        Bytes record = {'a', 0, 0, 0, 0x42, 0x43, 0x41, 0x42, 1, count, 0, 0};
        for (const auto state : states) {
            record.push_back(static_cast<std::uint8_t>(state));
            record.push_back(static_cast<std::uint8_t>(state >> 8U));
        }
        record.resize(28);
        const auto sum = crc32(0, record) + (sound ? 0U : 1U);
        for (unsigned shift = 0; shift < 32; shift += 8) record.push_back(static_cast<std::uint8_t>(sum >> shift));
        std::ranges::copy(record, misc.begin() + 2048);
        forge::DiskSpec disk;
        disk.size = 4U << 20U;
        disk.partitions = {{2048, misc, 0xDA, false}};
        machine = support::machine_of(forge::make_disk(disk));
        outcome = loader::uboot::Console(machine, *find_board("uboot-arm64"),
                                         {{"typed", "ab_select slot mmc 0:1 && echo slot $slot"}}, false)
                      .boot("typed");
    }
    [[nodiscard]] std::string said() const { return outcome.screen.empty() ? "" : outcome.screen.front(); }
};
std::uint16_t slot(unsigned priority, unsigned tries, bool good, bool spoilt = false) {
    return static_cast<std::uint16_t>(priority | tries << 4U | (good ? 0x80U : 0U) | (spoilt ? 0x100U : 0U));
}

TEST(AndroidSlots, TheBestThatMayBeStarted) {
    EXPECT_EQ(Slots({slot(15, 7, false), slot(14, 7, true), 0, 0}).said(), "slot a");
    EXPECT_EQ(Slots({slot(14, 7, true), slot(15, 7, false), 0, 0}).said(), "slot b");
    EXPECT_EQ(Slots({slot(15, 0, false), slot(14, 0, true), 0, 0}).said(), "slot b") << "a's tries are used up";
    EXPECT_EQ(Slots({slot(15, 0, true), slot(15, 3, false), 0, 0}).said(), "slot a") << "a is known to be good";
    EXPECT_EQ(Slots({slot(15, 2, false), slot(15, 3, false), 0, 0}).said(), "slot b") << "b has more tries left";
    EXPECT_EQ(Slots({slot(15, 7, true, true), slot(1, 1, false), 0, 0}).said(), "slot b") << "a is spoilt";
    EXPECT_EQ(Slots({slot(1, 1, false), slot(2, 1, false), slot(15, 7, true), 0}).said(), "slot b") << "of two";
    EXPECT_EQ(Slots({slot(1, 1, false), slot(2, 1, false), slot(15, 7, true), 0}, 3).said(), "slot c") << "of three";
    EXPECT_EQ(Slots({0, slot(15, 7, true), 0, 0}, 2, false).said(), "slot a")
        << "a record that fails its checksum is written anew";
    const Slots none({slot(0, 7, true), slot(15, 0, false), 0, 0});
    ASSERT_EQ(none.outcome.troubles.size(), 1U);
    EXPECT_EQ(none.outcome.troubles.front().why.text, "no slot of d1p1 may be started: each is used up or given up");
    EXPECT_EQ(none.outcome.troubles.front().why.evidence.at(0).range->offset, (1U << 20U) + 2048);
}

}  // namespace
