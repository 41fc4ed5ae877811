// SPDX-License-Identifier: MIT
// What becomes of U-Boot's commands behind a start that fails: some come back to them, some take the machine with them.
// Which does what was seen on a real one (conformance/boards-against-uboot.py, the cases "then-" and "packed-").
#include <fmt/format.h>

#include "board_support.hpp"

using namespace herberge;
using forge::Bytes;
using support::BoardVerdict;
using support::ScriptCard;

namespace {

constexpr const char* sound =
    "load mmc 0:1 0x46000000 /Good\nload mmc 0:1 0x48000000 /disk.img\nbooti 0x46000000 0x48000000:${filesize} "
    "${fdtcontroladdr}\n";

/// The first start, and a sound one behind it, with its arguments.
BoardVerdict with_another(const std::string& first, const std::vector<std::pair<std::string, Bytes>>& files = {}) {
    ScriptCard card(first + "\n" + sound);
    card.files.file("/Good", card.files.at("/Image").content);
    for (const auto& [name, bytes] : files) card.files.file(name, bytes);
    return card.board();
}

Bytes kernel() { return ScriptCard("").files.at("/Image").content; }
Bytes flipped(Bytes bytes, std::size_t at) {
    bytes.at(at) ^= 1;
    return bytes;
}
Bytes cut(Bytes bytes, std::size_t by) {
    bytes.resize(bytes.size() - by);
    return bytes;
}
Bytes tree() { return forge::make_device_tree({"", {}, {{"chosen", {}, {}}}}); }
Bytes legacy(const Bytes& content, forge::LegacyOptions options = {}) {
    options.arch = 22;
    return forge::make_legacy_image(content, options);
}

const std::string image = "load mmc 0:1 0x42000000 /Image\n";
const std::string image_tree = image + "load mmc 0:1 0x4a000000 /t.dtb\n";
const std::string legacy_image = "load mmc 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdtcontroladdr}";

TEST(UbootAfterAFailedStart, TheCommandsGoOn) {
    const struct {
        const char* what;
        std::string script;
        std::vector<std::pair<std::string, Bytes>> files;
    } rows[] = {
        {"nothing lies there", "booti", {}},
        {"nothing lies there", "bootz 0x42000000", {}},
        {"no kernel", image + "mw.b 0x42000038 0 4\nbooti 0x42000000 - ${fdtcontroladdr}", {}},
        {"packed, and no room", image + "booti 0x42000000 - ${fdtcontroladdr}", {{"/Image", forge::gzip(kernel())}}},
        {"packed, and cut",
         "setenv kernel_comp_addr_r 0x60000000\nsetenv kernel_comp_size 0x1000000\n" + image +
             "booti 0x42000000 - ${fdtcontroladdr}",
         {{"/Image", cut(forge::gzip(kernel()), 40)}}},
        {"the kernel's mark is overwritten",
         image + "load mmc 0:1 0x42000020 /disk.img\nbooti 0x42000000 - ${fdtcontroladdr}",
         {}},
        {"no tree", image + "booti 0x42000000 - 0x4a000000", {}},
        {"no mark of a tree", image_tree + "booti 0x42000000 - 0x4a000000", {{"/t.dtb", flipped(tree(), 0)}}},
        {"the tree's mark is overwritten",
         image_tree + "load mmc 0:1 0x4a000000 /disk.img\nbooti 0x42000000 - 0x4a000000",
         {{"/t.dtb", tree()}}},
        {"a legacy RAM disk is overwritten",
         image + "load mmc 0:1 0x50000000 /r\nload mmc 0:1 0x50000100 /boot.scr\nbooti 0x42000000 0x50000000 "
                 "${fdtcontroladdr}",
         {{"/r", legacy(Bytes(4096, 7), {.type = 3})}}},
        {"legacy: its sum", legacy_image, {{"/u", flipped(legacy(kernel()), 900)}}},
        {"legacy: a firmware", legacy_image, {{"/u", legacy(kernel(), {.type = 5})}}},
        {"legacy: Solaris", legacy_image, {{"/u", legacy(kernel(), {.os = 8})}}},
        {"legacy: EFI, and no application", legacy_image, {{"/u", legacy(kernel(), {.os = 28})}}},
        {"legacy: gzip, cut", legacy_image, {{"/u", legacy(cut(forge::gzip(kernel()), 40), {.compression = 1})}}},
        {"legacy: lz4, cut", legacy_image, {{"/u", legacy(cut(forge::lz4_frame(kernel()), 40), {.compression = 5})}}},
        {"legacy: overwritten, which its sum tells",
         "load mmc 0:1 0x50000000 /u\nload mmc 0:1 0x50000900 /disk.img\nbootm 0x50000000 - ${fdtcontroladdr}",
         {{"/u", legacy(kernel())}}},
    };
    for (const auto& row : rows) {
        const auto board = with_another(row.script, row.files);
        EXPECT_EQ(board.stage(), "yes") << row.what << ": " << board.system().at(Stage::Kernel).text;
        EXPECT_NE(board.system().at(Stage::Entry).text.find("/Good"), std::string::npos)
            << row.what << ": " << board.system().at(Stage::Entry).text;
    }
}

TEST(UbootAfterAFailedStart, TheMachineIsGone) {
    const struct {
        const char* what;
        std::string script;
        std::vector<std::pair<std::string, Bytes>> files;
        Code code;
        const char *text, *screen;
    } rows[] = {
        {"old, and no tree",
         "setenv ver \"U-Boot 2023.01\"\n" + image + "booti 0x42000000",
         {},
         Code::UbootTreeRefused,
         "no device tree is named for the kernel, and this U-Boot starts none without",
         "FDT and ATAGS support not compiled in\nresetting ..."},
        {"a tree cut short",
         image_tree + "booti 0x42000000 - 0x4a000000",
         {{"/t.dtb", cut(tree(), 8)}},
         Code::UbootTreeRefused,
         "the device tree d1p1:/t.dtb is damaged: ",
         "FDT_ERR_BADSTRUCTURE\nFDT creation failed!"},
        {"the tree overwritten behind its mark",
         image_tree + "load mmc 0:1 0x4a000010 /disk.img\nbooti 0x42000000 - 0x4a000000",
         {{"/t.dtb", tree()}},
         Code::UbootOverwritten,
         "the device tree d1p1:/t.dtb lies at 0x4a000000, and d1p1:/disk.img was loaded over a part of it",
         "FDT_ERR_BADSTRUCTURE\nFDT creation failed!"},
        {"the kernel overwritten behind its mark",
         image + "load mmc 0:1 0x42000040 /disk.img\nbooti 0x42000000 - ${fdtcontroladdr}",
         {},
         Code::UbootOverwritten,
         "d1p1:/Image lies at 0x42000000, and d1p1:/disk.img was loaded over a part of it",
         "(nothing)"},
        {"the RAM disk overwritten",
         image + "load mmc 0:1 0x48000000 /disk.img\nload mmc 0:1 0x48000010 /boot.scr\nbooti 0x42000000 "
                 "0x48000000:${filesize} ${fdtcontroladdr}",
         {},
         Code::UbootOverwritten,
         "the RAM disk d1p1:/disk.img lies at 0x48000000, and d1p1:/boot.scr was loaded over a part of it",
         "(nothing)"},
        {"legacy: entered beside itself",
         legacy_image,
         {{"/u", legacy(kernel(), {.entry = 0x4F000000})}},
         Code::UbootImageRefused,
         "the legacy image d1p1:/u is entered where it does not lie",
         "\"Synchronous Abort\" handler"},
        {"legacy: NetBSD",
         legacy_image,
         {{"/u", legacy(kernel(), {.os = 2})}},
         Code::UbootImageRefused,
         "the legacy image d1p1:/u says that it is no Linux: it is started without what a Linux needs",
         "## Transferring control to NetBSD stage-2 loader"},
        {"legacy: overwritten, and no sum is looked at",
         "setenv verify n\nload mmc 0:1 0x50000000 /u\nload mmc 0:1 0x50000900 /disk.img\nbootm 0x50000000 - "
         "${fdtcontroladdr}",
         {{"/u", legacy(kernel())}},
         Code::UbootOverwritten,
         "d1p1:/u lies at 0x50000000, and d1p1:/disk.img was loaded over a part of it",
         "(nothing)"},
    };
    for (const auto& row : rows) {
        const auto board = with_another(row.script, row.files);
        ASSERT_EQ(board.stage(), "kernel") << row.what;
        EXPECT_EQ(board.why(), row.code) << row.what;
        const auto& rung = board.system().at(Stage::Kernel);
        EXPECT_TRUE(rung.text.starts_with(row.text)) << row.what << ": " << rung.text;
        ASSERT_FALSE(rung.evidence.empty()) << row.what;
        EXPECT_NE(board.system().symptom.find(row.screen), std::string::npos)
            << row.what << ": " << board.system().symptom;
        EXPECT_EQ(board.system().at(Stage::Entry).state, State::Holds) << row.what;
        for (const auto stage : {Stage::Ramdisk, Stage::Root, Stage::Init})
            EXPECT_EQ(board.system().at(stage).state, State::NotReached) << row.what;
    }
}

/// How long the packed data are it is not told, and reads on behind them.
TEST(UbootAfterAFailedStart, UnpackingWhatIsCutIsNotFollowed) {
    for (const auto& [command, bytes] :
         {std::pair{"unzip", forge::gzip(kernel())}, std::pair{"unlz4", forge::lz4_frame(kernel())}}) {
        const auto script = fmt::format("load mmc 0:1 0x60000000 /z\n{} 0x60000000 0x42000000 1000000", command);
        EXPECT_EQ(with_another(script, {{"/z", bytes}}).stage(), "yes") << command;
        const auto board = with_another(script, {{"/z", cut(bytes, 40)}});
        EXPECT_EQ(board.stage(), "unknown") << command;
        const auto& rung = board.system().at(Stage::Configuration);
        EXPECT_EQ(rung.state, State::Unknown) << command;
        EXPECT_EQ(rung.text, fmt::format("how the commands go on is not known: {} reads on behind d1p1:/z, which is "
                                         "cut off",
                                         command));
    }
}

/// A menu's labels are tried one behind the other, up to the first that does not come back.
TEST(UbootAfterAFailedStart, MenusGoOnUpToTheFirstThatIsGone) {
    using Labels = std::vector<std::pair<std::string, std::string>>;
    const auto board = [](const Labels& labels, const std::vector<std::pair<std::string, Bytes>>& files) {
        support::Card card;
        card.configuration.clear();
        for (const auto& [name, kernel] : labels)
            card.configuration += fmt::format("label {}\n\tkernel {}\n\tinitrd /disk.img\n\tappend root=UUID={} ro\n",
                                              name, kernel, demo::station_root_uuid);
        for (const auto& [name, bytes] : files) card.files.file(name, bytes);
        return BoardVerdict(card.build(), "uboot-arm64");
    };
    const Labels three = {{"first", "/none"}, {"second", "/u"}, {"good", "/Image"}};
    const auto passed = board(three, {{"/u", flipped(legacy(kernel()), 900)}});
    EXPECT_EQ(passed.stage(), "yes");
    EXPECT_NE(passed.system().at(Stage::Entry).text.find("“good”"), std::string::npos)
        << passed.system().at(Stage::Entry).text;
    const auto gone = board(three, {{"/u", legacy(kernel(), {.entry = 0x4F000000})}});
    EXPECT_EQ(gone.stage(), "entry") << gone.system().at(Stage::Entry).text;
    EXPECT_EQ(gone.system().starts, Starts::No);
    const auto at_once =
        board({{"second", "/u"}, {"good", "/Image"}}, {{"/u", legacy(kernel(), {.entry = 0x4F000000})}});
    EXPECT_EQ(at_once.stage(), "kernel");
    EXPECT_EQ(at_once.why(), Code::UbootImageRefused);
}

// --- menus that are given up, or wait -------------------------------------------------------------------------------

BoardVerdict with_menu(const std::string& configuration) {
    support::Card card;
    card.configuration = configuration;
    return BoardVerdict(card.build(), "uboot-arm64");
}
const std::string root = "root=UUID=" + std::string(demo::station_root_uuid) + " ro";
const std::string station = "label station\n\tkernel /Image\n\tinitrd /disk.img\n\tappend " + root + "\n";

TEST(UbootMenus, ThatLackAValueAreGivenUpWhole) {
    const struct {
        std::string configuration, text;
        int line;
        const char* screen;
    } rows[] = {
        {station + "label other\n\tkernel /Image\n\tappend\n", "“append” stands there without a value", 7,
         "Error parsing config file"},
        {"timeout\n" + station, "“timeout” stands there without a value", 1, "Error parsing config file"},
        {station + "label other\n\tkernel # none\n", "“kernel” stands there without a value", 6,
         "Error parsing config file"},
        {"include /none.conf\n" + station, "/none.conf is not there", 1, "Error parsing config file"},
        {"default\n" + station, "“default” stands there without a value", 1, "\"Synchronous Abort\" handler"},
        {"label station\n\tkernel /Image\n\tappend " + root + " initrd=/disk.img\n",
         "“initrd=” is the last word for the kernel, and U-Boot looks for a blank behind it", 3,
         "\"Synchronous Abort\" handler"},
    };
    for (const auto& row : rows) {
        const auto board = with_menu(row.configuration);
        ASSERT_EQ(board.stage(), "configuration") << row.text;
        EXPECT_EQ(board.why(), Code::UbootMenuRefused);
        const auto& rung = board.system().at(Stage::Configuration);
        EXPECT_EQ(rung.text, "U-Boot gives d1p1:/extlinux/extlinux.conf up: " + row.text);
        ASSERT_EQ(rung.evidence.size(), 1U) << row.text;
        EXPECT_EQ(rung.evidence[0].place, "d1p1:/extlinux/extlinux.conf") << row.text;
        EXPECT_EQ(rung.evidence[0].line, row.line) << row.text;
        EXPECT_NE(board.system().symptom.find(row.screen), std::string::npos) << board.system().symptom;
        for (const auto stage : {Stage::Entry, Stage::Kernel, Stage::Root})
            EXPECT_EQ(board.system().at(stage).state, State::NotReached) << row.text;
    }
}

TEST(UbootMenus, TakeARamdiskOutOfTheKernelsWords) {
    const auto board = with_menu("label station\n\tkernel /Image\n\tappend initrd=/disk.img " + root + "\n");
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Ramdisk).text;
    const auto missing = with_menu("label station\n\tkernel /Image\n\tappend initrd=/none.img " + root + "\n");
    EXPECT_EQ(missing.stage(), "entry") << missing.system().at(Stage::Entry).text;
    EXPECT_NE(missing.system().symptom.find("Skipping station for failure retrieving initrd"), std::string::npos)
        << missing.system().symptom;
}

/// Any word for the menu's look shows it, and without a time it waits.
TEST(UbootMenus, ThatAreShownWaitWithoutATime) {
    EXPECT_EQ(with_menu(station).system().waits_for, "");
    for (const auto* title : {"menu title The inn\n", "menu hidden\n", "prompt 1\n"}) {
        EXPECT_NE(with_menu(title + station).system().waits_for, "") << title;
        EXPECT_EQ(with_menu(title + std::string("timeout 20\n") + station).system().waits_for, "") << title;
        EXPECT_EQ(with_menu(title + std::string("prompt 0\n") + station).system().waits_for, "") << title;
    }
}

/// Of a folder of trees: the variable's file, or one by the names of the processor and the board.
TEST(UbootMenus, NameATreeByTheVariables) {
    const auto said = [](const std::string& variables) {
        ScriptCard card(
            "setenv kernel_addr_r 0x42000000\nsetenv ramdisk_addr_r 0x48000000\nsetenv fdt_addr_r 0x4a000000\n" +
            variables + "sysboot mmc 0:1 any 0x40300000 /menu.conf\n");
        card.files.file("/menu.conf", station + "\tfdtdir /trees\n");
        for (const auto* name : {"own.dtb", "rock-inn.dtb", "rock.dtb", "inn.dtb"})
            card.files.file(std::string("/trees/") + name, tree());
        const auto board = card.board();
        const auto& menu = board.verdict.menus.at(0);
        const auto& trees = menu.entries.at(0).devicetree;
        return trees.empty() ? std::string{} : trees[0].place;
    };
    EXPECT_EQ(said("setenv fdtfile own.dtb\nsetenv soc rock\n"), "d1p1:/trees/own.dtb");
    EXPECT_EQ(said("setenv soc rock\nsetenv board inn\n"), "d1p1:/trees/rock-inn.dtb");
    EXPECT_EQ(said("setenv soc rock\nsetenv board\n"), "d1p1:/trees/rock.dtb");
    EXPECT_EQ(said("setenv soc\nsetenv board inn\n"), "d1p1:/trees/inn.dtb");
    EXPECT_EQ(said("setenv soc\nsetenv board none\n"), "");
}

}  // namespace
