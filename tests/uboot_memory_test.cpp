// SPDX-License-Identifier: MIT
// U-Boot below the files: memory, sectors, flash, what is read straight from there and started.
#include <fmt/format.h>

#include <herberge/flash.hpp>

#include "board_support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Card;
using support::Folder;
using support::load_both;
using support::ScriptCard;
using support::Typed;
namespace uboot = loader::uboot;

namespace {

// --- commands -------------------------------------------------------------------------------------------------------

TEST(UbootMemory, IsFilledCopiedAndReadBack) {
    const std::pair<const char*, const char*> rows[] = {
        {"mw.l 1000 12345678; setexpr.l x *1000; echo $x; setexpr.b x *1001; echo $x; setexpr.w x *1002; echo $x",
         "12345678|56|1234|"},
        {"mw.q 1000 1122334455667788; setexpr.q x *1000; echo $x", "1122334455667788|"},
        {"mw.w 1000 abcd 2; setexpr x *1000; echo $x", "abcdabcd|"},
        {"mw.l 1000 11223344 4; cp.b 1001 2000 4; setexpr.l x *2000; echo $x", "44112233|"},
        // The last that was written counts, and what lies beside it stays.
        {"mw.l 1000 0 4; mw.b 1004 ff; setexpr.l x *1004; echo $x; setexpr.q x *1000; echo $x", "ff|ff00000000|"},
        {"load mmc 0:1 1000 a.txt; mw.b 1004 39; env import -t 1000 $filesize; echo $one", "9|"},
        {"setexpr x zz + 5; echo $x; setexpr y 5x + 1; echo $y", "5|6|"},
        {"setexpr x 1 << 2 || echo bad; setexpr x 7 ? 2 || echo bad", "bad|bad|"},
        {"setexpr.s x abc || echo memory only; setexpr.s x *1000 - *1000 || echo no", "memory only|no|"},
        {"setexpr x gsub q r abc || echo none; echo -$x-", "none|--|"},
        {"load mmc 0:1 1000 a.txt; mw.b 1005 0; setexpr.s x *1000; echo $x", "one=1|"},
        {"setenv x a b c; setexpr x gsub ' ' _; echo $x; setexpr x sub _ -; echo $x; setexpr y gsub b x abcb; echo $y",
         "a_b_c|a-b_c|axcx|"},
        {"setexpr gone gsub a b || echo none", "## Error: variable \"gone\" not defined|none|"},
        {"mw.b 1000 41 4; crc32 1000 4 2000; setexpr.l x *2000; echo $x", "f1080d9b|"},  // 9b0d08f1, big-endian
        {"mw.b 1000 41 4; hash sha1 1000 4 x; echo $x", "e2512172abf8cc9f67fdd49eb6cacf2df71bbad3|"},
        {"load mmc 0:1 1000 a.txt; unzip 1000 2000 || echo plain; iminfo 1000 || echo no image",
         "Error: Bad gzipped data|plain|no image|"},
        {"load mmc 0:1 1000 a.txt; imxtract 1000 0 2000 || echo none", "Bad Image Part|none|"},
        {"load mmc 0:1 200 loop.scr; iminfo 200 && echo whole; imxtract 200 0 3000; echo $filesize", "whole|13|"},
    };
    for (const auto& [commands, expected] : rows) EXPECT_EQ(Typed(commands).printed(), expected) << commands;
}

TEST(UbootMemory, MediaAreReadBelowTheFiles) {
    const std::pair<const char*, const char*> rows[] = {
        {"mmc read 1000 0 1; setexpr.w x *11fe; echo $x", "aa55|"},
        {"mmc dev 0; mmc read 1000 0 1 && echo read; mmc part && echo listed", "read|listed|"},
        {"read mmc 0:1 1000 0 1; setexpr.b x *1000; echo $x; read mmc 0:9 1000 0 1 || echo none",
         "eb|** Invalid partition 9 **|none|"},
        {"read mmc 7 1000 0 1 || echo none", "** Bad device specification mmc 7 **|none|"},
        {"mmc read 1000 5fff 1 && echo last; mmc read 1000 6000 1 || echo behind; mmc read 1000 5fff 2 || echo cut",
         "last|behind|cut|"},
        {"mmc read 1000 0 0 && echo nothing; setexpr.b x *1000 || echo none", "nothing|none|"},
    };
    for (const auto& [commands, expected] : rows) EXPECT_EQ(Typed(commands).printed(), expected) << commands;
}

TEST(UbootMemory, WhatIsNotFollowedIsSaid) {
    const auto of = [](const std::string& commands) { return Typed(commands).outcome.unfollowed; };
    using Names = std::vector<std::string>;
    EXPECT_EQ(of("setexpr x *1000"), Names{"setexpr on memory"});
    EXPECT_EQ(of("setenv x a; setexpr x gsub 'a|c' b"), Names{"setexpr with patterns"});
    EXPECT_EQ(of("setexpr x fmt %d 5 6 7"), Names{"setexpr fmt"});
    EXPECT_EQ(of("go 1000; bootelf 1000"), (Names{"go", "bootelf"}));
    EXPECT_EQ(of("mw.l 1000 5; setexpr.l x *1000"), Names{});
    EXPECT_EQ(of("setexpr.b x *1000; mw.b 1000 1 100000; setexpr.b x *1000; setexpr.b x *1ffff"),
              Names{"setexpr on memory"});
    // Beyond what is kept of memory.
    EXPECT_EQ(of("mw.b 1000 1 100001; setexpr.b x *1000"), Names{"setexpr on memory"});
}

/// Each copy of a part, and each change, is a step of every later read: their number is bounded.
TEST(UbootMemory, CopiesOfCopiesHaveABound) {
    const auto changes = [](int count) {
        return Typed("load mmc 0:1 1000 a.txt; setenv n " + fmt::format("{:x}", count) +
                     "; while itest $n > 0; do mw.b 1004 39; setexpr n $n - 1; done; env import -t 1000 1c; echo $one");
    };
    EXPECT_EQ(changes(64).printed(), "9|");
    const auto many = changes(65);
    EXPECT_EQ(many.printed(), "|");
    EXPECT_EQ(many.outcome.unfollowed, std::vector<std::string>{"env import"});
    EXPECT_EQ(changes(3000).outcome.unfollowed, std::vector<std::string>{"env import"});
    const Typed copies(
        "load mmc 0:1 1000 a.txt; setenv n bb8; while itest $n > 0; do cp.b 1001 2000 5; cp.b 2000 1000 4; cp.b 1000 "
        "1001 3; setexpr n $n - 1; done; setexpr.b x *1000; echo done");
    EXPECT_EQ(copies.printed(), "done|");
}

// --- kernels that no file holds -------------------------------------------------------------------------------------

constexpr std::size_t kernel_at = 10U << 20U;  ///< behind the card's partitions

/// The card's kernel lies in sectors, not in a file.
ScriptCard raw_card(const std::string& script) {
    ScriptCard card(script);
    card.behind = {{kernel_at, card.files.at("/Image").content}};
    card.files.remove("/Image").remove("/Image.old");
    return card;
}
const std::string ramdisk = "load mmc 0:1 0x48000000 /disk.img\n";
const std::string start = "booti 0x42000000 0x48000000:${filesize}";

TEST(UbootRawReads, AKernelInSectorsIsStarted) {
    const auto board = raw_card("mmc read 0x42000000 0x5000 0x400\n" + ramdisk + start).board();
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Kernel).text;
    EXPECT_EQ(board.system().at(Stage::Entry).text, "“boot.scr” resolves: kernel d1@10485760");
    EXPECT_EQ(board.system().at(Stage::Kernel).state, State::Doubtful) << board.system().at(Stage::Kernel).text;
    EXPECT_NE(board.system().at(Stage::Kernel).text.find("6.1.0-almhof-armmp"), std::string::npos)
        << board.system().at(Stage::Kernel).text;
    EXPECT_EQ(board.system().at(Stage::Root).state, State::Holds);
}

TEST(UbootRawReads, WhatIsNotThereIsToldApart) {
    struct Row {
        std::string script, stage;
        std::optional<Code> why;
        std::string text;
    };
    const Row rows[] = {
        // Another sector: zeros, which are no kernel.
        {"mmc read 0x42000000 0x5500 0x100\n" + ramdisk + start, "kernel", Code::UbootImageRefused,
         "d1@11141120 lacks the mark of a kernel image"},
        {"mmc read 0x42000000 0x6000 0x10\n" + ramdisk + start, "entry", Code::UbootFileMissing,
         "what is to be read at d1@12582912 lies behind the end of d1"},
        {"mmc read 0x42000000 0x5ff0 0x11\n" + ramdisk + start, "entry", Code::UbootFileMissing,
         "what is to be read at d1@12574720 lies behind the end of d1"},
        {"booti 0x42000000", "configuration", Code::UbootCommandsEnd,
         "booti is to start what lies at 0x42000000, and nothing was loaded there"},
    };
    for (const auto& row : rows) {
        const auto board = raw_card(row.script).board();
        EXPECT_EQ(board.stage(), row.stage) << row.script;
        ASSERT_TRUE(board.system().stops_at) << row.script;
        EXPECT_EQ(board.why(), *row.why) << row.script;
        EXPECT_EQ(board.system().at(*board.system().stops_at).text, row.text);
    }
}

/// Where something that is not followed may have put it, nothing is said to be missing.
TEST(UbootRawReads, WhatCannotBeKnownIsNoFault) {
    struct Row {
        std::string script, text;
    };
    const Row rows[] = {
        {"frobnicate 0x42000000\n" + start, "its commands use frobnicate, which is not followed here"},
        {"cp.b 0x1000000 0x42000000 0x800000\n" + ramdisk + start,
         "its commands copy it from 0x1000000, where nothing that is known here lies"},
        {"sf probe\nsf read 0x42000000 0x100000 0x800000\n" + ramdisk + start,
         "its commands read it from the board's flash, which is not among the disks (--flash-layout says which one it "
         "is)"},
        {"ubi part system\nubi read 0x42000000 kernel\n" + ramdisk + start,
         "its commands read it from the board's flash, which is not among the disks (--flash-layout says which one it "
         "is)"},
        {"mmc dev 0 1\nmmc read 0x42000000 0 0x800\n" + ramdisk + start,
         "its commands read it from the part 1 of mmc 0, which is not among the disks"},
    };
    for (const auto& row : rows) {
        const auto board = ScriptCard(row.script).board();
        EXPECT_EQ(board.stage(), "unknown") << row.script;
        EXPECT_NE(board.system().at(Stage::Entry).text.find(row.text), std::string::npos)
            << board.system().at(Stage::Entry).text << "\n"
            << row.text;
        EXPECT_EQ(board.system().at(Stage::Entry).state, State::Unknown) << row.script;
    }
}

TEST(UbootRawReads, ChangesInMemoryAreSeen) {
    const auto of = [](const std::string& change) {
        const auto board =
            ScriptCard(load_both + "setenv size ${filesize}\n" + change + "\nbooti 0x42000000 0x48000000:${size}")
                .board();
        return board.stage() + (board.system().stops_at ? ": " + board.system().at(*board.system().stops_at).text : "");
    };
    EXPECT_EQ(of("true"), "yes");
    EXPECT_EQ(of("mw.b 0x42000034 0 4"), "yes") << "what nobody looks at may change";
    EXPECT_EQ(of("mw.b 0x42000038 0 4"), "kernel: d1p1:/Image, changed by mw.b lacks the mark of a kernel image");
    // A copy elsewhere is as good.
    const auto copied =
        ScriptCard("load mmc 0:1 0x60000000 /Image\ncp.b 0x60000000 0x42000000 ${filesize}\n" + ramdisk + start)
            .board();
    EXPECT_EQ(copied.stage(), "yes");
    // Cut short.
    const auto cut =
        ScriptCard("load mmc 0:1 0x60000000 /Image\ncp.b 0x60000000 0x42000000 0x30\n" + ramdisk + start).board();
    EXPECT_EQ(cut.stage(), "kernel");
    EXPECT_EQ(cut.why(), Code::UbootImageRefused);
}

TEST(UbootRawReads, APackedKernelIsUnpackedFirst) {
    ScriptCard card("load mmc 0:1 0x60000000 /Image.gz\nunzip 0x60000000 0x42000000\n" + ramdisk + start);
    card.files.file("/Image.gz", forge::gzip(card.files.at("/Image").content)).remove("/Image").remove("/Image.old");
    EXPECT_EQ(card.board().stage(), "yes");
    auto damaged = card.files.at("/Image.gz").content;
    damaged[damaged.size() / 2] ^= 0x10;
    card.files.file("/Image.gz", damaged);
    const auto board = card.board();
    EXPECT_EQ(board.stage(), "configuration");
    EXPECT_EQ(board.why(), Code::UbootCommandsEnd);
}

// --- flash ----------------------------------------------------------------------------------------------------------

/// A card, and raw flash beside it that is divided as these words say.
support::BoardVerdict with_flash(ScriptCard card, const Bytes& flash, const std::string& words) {
    card.files.file(
        "/boot.scr",
        forge::make_legacy_image(forge::to_bytes("setenv bootargs root=UUID=" + std::string(demo::station_root_uuid) +
                                                 " ro\n" + card.script),
                                 {.type = 6}));
    return support::BoardVerdict(card.build(), "uboot-arm64", {}, flash, words);
}

TEST(UbootFlash, KernelsAreReadFromIt) {
    Bytes nor(4U << 20U, 0xFF);
    ScriptCard plain("");
    const auto kernel = plain.files.at("/Image").content;
    std::ranges::copy(kernel, nor.begin() + 0x100000);
    const std::string words = "1m(loader),2m(kernel),-(rest)";
    const std::pair<const char*, const char*> rows[] = {
        {"sf probe 0:0; sf read 0x42000000 0x100000 0x80000", "yes"},
        {"sf probe; sf read 0x42000000 kernel", "yes"},
        {"sf probe; sf read 0x42000000 gone || echo none", "configuration"},
        {"nand read 0x42000000 kernel 0x80000", "yes"},
        {"nand read.i 0x42000000 0x100000 0x80000", "yes"},
        {"mtd read kernel 0x42000000", "yes"},
        {"mtd read nor0 0x42000000 0x100000 0x80000", "yes"},
        {"mtd read nowhere 0x42000000", "configuration"},
        // U-Boot may divide it in another way than the kernel does.
        {"setenv mtdparts mtdparts=nor0:512k(a),512k(b),1m(boot); sf read 0x42000000 boot", "yes"},
        {"sf read 0x42000000 loader", "kernel"},
        {"sf read 0x42000000 0x400000 0x1000", "configuration"},
        {"sf read 0x42000000 0x3ff000 0x2000", "entry"},
    };
    for (const auto& [commands, stage] : rows) {
        std::string script = commands;
        std::ranges::replace(script, ';', '\n');
        const auto board = with_flash(raw_card(script + "\n" + ramdisk + start), nor, words);
        EXPECT_EQ(board.stage(), stage) << commands << ": " << board.system().at(Stage::Entry).text;
    }
}

TEST(UbootFlash, VolumesOfUbiAreRead) {
    ScriptCard plain("");
    const auto flash = forge::make_ubi({{"kernel", plain.files.at("/Image").content}, {"other", Bytes(1000, 7)}});
    const std::string words = "-(system)";
    const auto of = [&](const std::string& script) {
        return with_flash(raw_card(script + "\n" + ramdisk + start), flash, words);
    };
    const auto board = of("ubi part system\nubi read 0x42000000 kernel");
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Entry).text << board.system().at(Stage::Kernel).text;
    EXPECT_EQ(board.system().at(Stage::Entry).text, "“boot.scr” resolves: kernel ubi0/kernel@0");
    const auto gone = of("ubi part system\nubi read 0x42000000 gone");
    EXPECT_EQ(gone.stage(), "entry");
    EXPECT_EQ(gone.system().at(Stage::Entry).text, "the flash has no volume gone that U-Boot can read");
    EXPECT_EQ(gone.system().symptom, "Volume gone not found!\n=>");
    EXPECT_EQ(of("ubi part elsewhere || echo none").stage(), "configuration");
}

TEST(UbootFlash, FilesOfUbifsAreLoaded) {
    const Folder folder;
    std::filesystem::create_directories(folder.file("top/boot"));
    ScriptCard plain("");
    folder.write("top/boot/Image", plain.files.at("/Image").content);
    folder.write("list", forge::to_bytes("[root]\nmode=ubi\nimage=fs\nvol_id=0\nvol_type=dynamic\nvol_name=station\n"
                                         "vol_size=4MiB\n"));
    const auto made = support::shell(
        fmt::format("cd {} && mkfs.ubifs -x lzo -m 1 -e 65408 -c 100 -r top fs && ubinize -m 1 -p 64KiB -o flash list",
                    folder.file("")));
    ASSERT_EQ(made.status, 0) << made.out;
    const auto flash = support::file_bytes(folder.file("flash"));
    const auto of = [&](const std::string& script) {
        return with_flash(raw_card(script + "\n" + ramdisk + start), flash, "-(system)");
    };
    const auto whole = of("ubi part system\nubifsmount ubi0:station\nubifsload 0x42000000 /boot/Image");
    EXPECT_EQ(whole.stage(), "yes") << whole.system().at(Stage::Entry).text << whole.system().at(Stage::Kernel).text;
    EXPECT_EQ(whole.system().at(Stage::Entry).text, "“boot.scr” resolves: kernel ubi0/station:/boot/Image");
    EXPECT_EQ(of("ubi part system\nubifsmount ubi:station\nload ubi 0:station 0x42000000 boot/Image").stage(), "yes");
    const auto gone = of("ubi part system\nubifsmount ubi0:station\nubifsload 0x42000000 /boot/None");
    EXPECT_EQ(gone.stage(), "entry");
    EXPECT_EQ(gone.why(), Code::UbootFileMissing);
    EXPECT_EQ(of("ubi part system\nubifsload 0x42000000 /boot/Image").stage(), "entry") << "nothing is mounted";
}

/// How a flash is divided, the kernel's command line may say: the user is told with which words.
TEST(UbootFlash, WordsThatDivideItAreShown) {
    const std::string words = "mtdparts=spi0.0:1m(loader),-(rootfs)";
    const auto says = [](const std::string& arguments, const std::string& text) {
        const auto board =
            ScriptCard("setenv bootargs " + arguments + "\nload mmc 0:1 0x42000000 /Image\nbooti 0x42000000").board();
        return std::ranges::any_of(board.verdict.systems, [&](const SystemVerdict& system) {
            return system.at(Stage::Root).state == State::Unknown && system.at(Stage::Root).text == text;
        });
    };
    const std::string plain =
        "root=mtd:rootfs cannot be followed: flash is divided by words, not by a table on it: --flash-layout gives "
        "them";
    EXPECT_TRUE(says("root=mtd:rootfs rootfstype=jffs2", plain));
    EXPECT_TRUE(says("root=mtd:rootfs rootfstype=jffs2 " + words,
                     plain + "; the command line has the words for that: " + words));
}

/// An environment in a part of the flash that is called so.
TEST(UbootFlash, ItsEnvironmentIsTakenFromItsPart) {
    const auto of = [](const std::string& words) {
        Bytes nor(1U << 20U, 0xFF);
        const auto stored = forge::make_uboot_environment(
            {{"bootcmd",
              "load mmc 0:1 0x42000000 /Image; load mmc 0:1 0x48000000 /disk.img; booti 0x42000000 "
              "0x48000000:${filesize}"},
             {"bootargs", "root=UUID=" + std::string(demo::station_root_uuid)}},
            65536);
        std::ranges::copy(stored, nor.begin() + 0x80000);
        Card card;
        card.configuration.clear();
        return support::BoardVerdict(card.build(), "uboot-arm64", {}, nor, words);
    };
    const auto board = of("512k(u-boot),64k(u-boot-env),-(rest)");
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Configuration).text;
    EXPECT_NE(board.system().at(Stage::Loader).text.find("its environment is stored in d2p2 (u-boot-env)"),
              std::string::npos)
        << board.system().at(Stage::Loader).text;
    EXPECT_EQ(of("512k(u-boot),64k(other),-(rest)").stage(), "configuration");
}

// --- environments in files ------------------------------------------------------------------------------------------

/// An environment of 4 KiB with the byte that counts its two copies.
Bytes counted_environment(const std::string& command, std::uint8_t flag) {
    Bytes out(4096);
    out[4] = flag;
    const std::string text = "bootcmd=" + command;
    std::ranges::copy(text, out.begin() + 5);
    forge::put32(out, 0, crc32(0, std::span(out).subspan(5)));
    return out;
}
const std::string whole = load_both + "booti 0x42000000 0x48000000:${filesize}";
std::string on_one_line(std::string text) {
    std::ranges::replace(text, '\n', ';');
    return "setenv bootargs root=UUID=" + std::string(demo::station_root_uuid) + ";" + text;
}

TEST(UbootEnvironmentFiles, TheNewerOfTwoCopiesCounts) {
    struct Row {
        std::uint8_t first, second;
        bool first_sound, second_sound;
        const char* taken;
    };
    for (const auto& row : std::initializer_list<Row>{{1, 2, true, true, "uboot-redund.env"},
                                                      {2, 1, true, true, "uboot.env"},
                                                      {255, 0, true, true, "uboot-redund.env"},
                                                      {0, 255, true, true, "uboot.env"},
                                                      {5, 5, true, true, "uboot.env"},
                                                      {1, 2, true, false, "uboot.env"},
                                                      {2, 1, false, true, "uboot-redund.env"}}) {
        Card card;
        card.configuration.clear();
        auto first = counted_environment(on_one_line(whole), row.first);
        auto second = counted_environment(on_one_line(whole), row.second);
        if (!row.first_sound) first[1000] ^= 1;
        if (!row.second_sound) second[1000] ^= 1;
        card.files.file("/uboot.env", first).file("/uboot-redund.env", second);
        const support::BoardVerdict board(card.build(), "uboot-arm64");
        EXPECT_EQ(board.stage(), "yes") << int{row.first} << " " << int{row.second};
        EXPECT_NE(board.system().at(Stage::Loader).text.find(fmt::format("stored in d1p1:/{} ", row.taken)),
                  std::string::npos)
            << board.system().at(Stage::Loader).text;
    }
}

TEST(UbootEnvironmentFiles, OneOnExtCounts) {
    const auto of = [](bool fat_before) {
        Card card;
        auto files = demo::weather_station().root;
        for (const auto* name : {"/Image", "/disk.img"}) files.file(name, card.files.at(name).content);
        auto command = on_one_line(whole);
        if (fat_before)
            for (auto at = command.find("mmc 0:1"); at != std::string::npos; at = command.find("mmc 0:1"))
                command.replace(at, 7, "mmc 0:2");
        files.file("/uboot.env", forge::make_uboot_environment({{"bootcmd", command}}, 16384));
        forge::ExtOptions ext;
        ext.size = 8U << 20U;
        ext.uuid = forge::uuid_from(demo::station_root_uuid);
        forge::DiskSpec disk;
        disk.size = 16U << 20U;
        if (fat_before) {
            forge::FatOptions fat;
            fat.size = 4U << 20U;
            disk.partitions.push_back({2048, forge::make_fat(forge::Tree{}, fat).bytes, 0x0C, true});
        }
        disk.partitions.push_back({12288, forge::make_ext(files, ext), 0x83, !fat_before});
        return support::BoardVerdict(forge::make_disk(disk), "uboot-arm64");
    };
    const auto board = of(false);
    EXPECT_EQ(board.stage(), "yes") << board.system().at(Stage::Configuration).text;
    EXPECT_NE(board.system().at(Stage::Loader).text.find("its environment is stored in d1p1:/uboot.env"),
              std::string::npos)
        << board.system().at(Stage::Loader).text;
    // A U-Boot that keeps it on FAT looks there alone.
    EXPECT_EQ(of(true).stage(), "configuration");
}

}  // namespace
