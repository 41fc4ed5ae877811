// SPDX-License-Identifier: MIT
// The command-line tool and the examples, run as a person would run them.
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <array>
#include <cstdio>
#include <fstream>
#include <nlohmann/json.hpp>
#include <regex>

#include "cellar.hpp"
#include "forge/sign.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "ledger.hpp"
#include "office_pc.hpp"
#include "support.hpp"

namespace {

using support::Ran;
using support::shell;

Ran tool(const std::string& arguments) { return shell(std::string(TOOL_PATH) + " " + arguments); }

class Tool : public testing::Test {
protected:
    support::Folder folder_;
    std::string disk(const std::string& name) {
        for (const auto& story : demo::front_desk_disks())
            if (story.name == name) {
                EXPECT_TRUE(demo::write_disk(story, folder_.file(name)));
                return folder_.file(name);
            }
        return {};
    }
};

TEST_F(Tool, CheckPutsTheVerdictFirstAndExitsByIt) {
    const auto healthy = tool("check " + disk("healthy.img"));
    EXPECT_EQ(healthy.status, 0) << healthy.out;
    EXPECT_NE(healthy.out.find("d1p1   Almhof Desk 4 (Enzian)  starts\n"), std::string::npos) << healthy.out;
    EXPECT_EQ(healthy.out.find("Also found"), std::string::npos)
        << "a sound machine has nothing to repair: " << healthy.out;
    const auto broken = tool("check " + disk("wrong-kernel.img"));
    EXPECT_EQ(broken.status, 1);
    const auto verdict = broken.out.find("will not start: stops at entry");
    EXPECT_LT(verdict, 300U);
    EXPECT_LT(verdict, broken.out.find("firmware  "));
    EXPECT_NE(broken.out.find("there is /boot/vmlinuz-6.1.2-almhof"), std::string::npos);
    EXPECT_NE(broken.out.find("grub.cfg:21"), std::string::npos);
    EXPECT_NE(broken.out.find("error: you need to load the kernel first."), std::string::npos);
    EXPECT_EQ(broken.out.find('\x1b'), std::string::npos) << "a pipe gets no colour";
}

TEST_F(Tool, UnlocksWithWhatAFileHolds) {
    const auto image = folder_.write("vault.img", demo::vault().build());
    const auto key = folder_.write("vault.key", forge::to_bytes(std::string(demo::vault_passphrase) + "\n"));
    const auto shut = tool("check " + image);
    EXPECT_EQ(shut.status, 4) << shut.out;
    EXPECT_NE(shut.out.find("holds as far as ramdisk; the rest cannot be told"), std::string::npos) << shut.out;
    EXPECT_NE(shut.out.find("d1p2 is encrypted: with --unlock d1p2=FILE (its passphrase or key file) what lies inside "
                            "is looked at, too."),
              std::string::npos)
        << shut.out;
    const auto open = tool("check " + image + " --unlock d1p2=" + key);
    EXPECT_EQ(open.status, 0) << open.out;
    EXPECT_NE(open.out.find("lvm/inn/root  Almhof Cellar 3 (Silberdistel)  starts\n"), std::string::npos) << open.out;
    EXPECT_EQ(open.out.find("--unlock"), std::string::npos) << open.out;
    EXPECT_EQ(open.out.find(demo::vault_passphrase), std::string::npos);
    const auto layout = tool("layout " + image + " --unlock d1p2=" + key);
    EXPECT_NE(layout.out.find("pbkdf2-sha256  1000 rounds  whole\n"), std::string::npos) << layout.out;
    EXPECT_LT(layout.out.find("\nopen/d1p2"), layout.out.find("\n└ lvm/inn/root")) << layout.out;
    EXPECT_TRUE(tool("copy " + image + " --unlock d1p2=" + key + " --from lvm/inn/root:/etc/hostname --to -")
                    .out.starts_with("cellar\n"));
    const auto header = tool("sector " + image + " --at d1p2");
    EXPECT_NE(header.out.find("header of LUKS 2"), std::string::npos) << header.out;
    EXPECT_NE(header.out.find("checksum_kind"), std::string::npos) << header.out;
    folder_.write("wrong.key", forge::to_bytes("edelweiss"));
    const auto wrong = tool("check " + image + " --unlock d1p2=" + folder_.file("wrong.key"));
    EXPECT_EQ(wrong.status, 4);
    EXPECT_NE(wrong.out.find("does not open d1p2: no key slot opens by it"), std::string::npos) << wrong.out;
}

TEST_F(Tool, EveryCommandWorksInVolumesOfVolumes) {
    const auto disks = demo::ledger().build();
    const auto key = folder_.write("ledger.key", forge::to_bytes(std::string(demo::ledger_passphrase) + "\n"));
    const std::string machine = folder_.write("1.img", disks[0]) + " " + folder_.write("2.img", disks[1]) +
                                " --unlock " + demo::ledger_vault + "=" + key;
    const auto drawn = tool("layout " + machine).out;
    std::size_t at = 0;
    for (const char* row :
         {"\nmd/boot   ", "\nmd/books  ", "\n└ lvm/almhof/books  ", "\n  └ open/lvm/almhof/books  "}) {
        const auto found = drawn.find(row);
        EXPECT_NE(found, std::string::npos) << row << drawn;
        EXPECT_LT(at, found) << row;
        at = found;
    }
    EXPECT_NE(drawn.find("\nlvm/almhof/books       mapper/almhof-books   "), std::string::npos) << drawn;
    EXPECT_NE(drawn.find("  cryptouuid/1ed6e70000034a018a01000001ed6e73  1ed6e700-0001-4a01-8a01-000001ed6e71\n"),
              std::string::npos)
        << drawn;
    const std::string inside = std::string("open/") + demo::ledger_vault;
    EXPECT_NE(tool("files " + machine + " --in " + inside + ":/etc").out.find("hostname"), std::string::npos);
    const auto copied = folder_.file("hostname");
    EXPECT_EQ(tool("copy " + machine + " --from " + inside + ":/etc/hostname --to " + copied).status, 0);
    std::ifstream in(copied);
    EXPECT_EQ((std::string{std::istreambuf_iterator<char>(in), {}}), "ledger\n");
    const auto sector = tool("sector " + machine + " --at " + inside).out;
    EXPECT_NE(sector.find("\"XFSB\""), std::string::npos) << sector;
    EXPECT_EQ(sector.find(inside + "@0+512  superblock of XFS"), 0U) << sector;
    const auto super = tool("sector " + machine + " --at md/boot@1024").out;
    EXPECT_EQ(super.find("md/boot@1024+512  superblock of md/boot (ext4), first half\n"), 0U) << super;
    EXPECT_EQ(tool("sector " + machine + " --at md/boot@6291455").status, 0);
    EXPECT_EQ(tool("sector " + machine + " --at md/boot@6291456").status, 3);
    EXPECT_EQ(tool("sector " + machine + " --at md/none").status, 2);
    const auto systems = tool("systems " + machine).out;
    EXPECT_NE(systems.find(inside), std::string::npos) << systems;
    EXPECT_NE(systems.find("Almhof Ledger Server 2 (Steinbock)"), std::string::npos) << systems;
}

TEST_F(Tool, RefusesKeysThatAreNone) {
    const auto image = folder_.write("vault.img", demo::vault().build());
    const auto key = folder_.write("vault.key", forge::to_bytes(demo::vault_passphrase));
    folder_.write("empty.key", {});
    const struct {
        std::string option;
        int status;
        const char* says;
    } cases[] = {{"d1p2", 2, "--unlock wants PLACE=FILE, such as d1p2=key.txt"},
                 {"=" + key, 2, "--unlock wants PLACE=FILE"},
                 {"d1p2=", 2, "--unlock wants PLACE=FILE"},
                 {"d1p9=" + key, 2, "--unlock: there is no d1p9 here"},
                 {"d1p1=" + key, 2, "--unlock: d1p1 is no LUKS volume"},
                 {"d1p2=" + folder_.file("absent.key"), 3, "absent.key: it cannot be read"},
                 {"d1p2=" + folder_.file("empty.key"), 3, "empty.key: it is no file, or an empty one"},
                 {"d1p2=/dev/zero", 3, "/dev/zero: it is no file, or an empty one"}};
    for (const auto& one : cases) {
        const auto ran = tool("check " + image + " --unlock " + one.option);
        EXPECT_EQ(ran.status, one.status) << one.option;
        EXPECT_NE(ran.out.find(one.says), std::string::npos) << ran.out;
    }
}

TEST_F(Tool, DiscsAreWalkedFromDriveOrStick) {
    const auto path = folder_.write("help.iso", demo::help_discs().front().make());
    const auto whole = tool("check " + path);
    EXPECT_NE(whole.out.find("d1p1   Almhof Help 4 (Murmeltier)  starts\n"), std::string::npos) << whole.out;
    EXPECT_NE(whole.out.find("(/live/help.squashfs), and"), std::string::npos) << whole.out;
    EXPECT_EQ(whole.status, 0);
    auto layered = demo::help_disc();
    layered.files.file("/live/more.squashfs", layered.files.at(demo::help_root).content);
    const auto layers = folder_.write("layers.iso", layered.build().bytes);
    const auto stick = tool("check " + layers);
    EXPECT_NE(stick.out.find("d1p1   Almhof Help 4 (Murmeltier)  holds as far as root; the rest cannot be told"),
              std::string::npos)
        << stick.out;
    EXPECT_EQ(stick.status, 4) << "nothing is known to be broken";
    EXPECT_EQ(tool("check --strict " + layers).status, 1);
    const auto drive = tool("check --optical " + path);
    EXPECT_NE(drive.out.find("a BIOS starts the disc d1"), std::string::npos) << drive.out;
    const auto layout = nlohmann::json::parse(tool("layout --format json " + path).out);
    const auto& images = layout.at("disks").at(0).at("boot_catalogue").at("images");
    ASSERT_EQ(images.size(), 2U);
    EXPECT_EQ(images.at(1).at("platform"), 0xEF);
    const auto text = tool("layout --optical " + path);
    EXPECT_NE(text.out.find("sr0    cd"), std::string::npos) << text.out;
    const auto files = tool("files --in d1p1:/live " + path);
    EXPECT_NE(files.out.find("help.squashfs"), std::string::npos) << files.out;
    const auto sectors = tool("sector --boot-sectors " + path);
    EXPECT_NE(sectors.out.find("boot catalogue (El Torito)"), std::string::npos);
    EXPECT_NE(sectors.out.find("first sector of boot image 1"), std::string::npos);
    const auto rehearsed = tool("rehearse --optical " + path);
    EXPECT_NE(rehearsed.out.find("ISOLINUX stand-in"), std::string::npos) << rehearsed.out;
}

TEST_F(Tool, BootSectorsStandBesideTheirBackups) {
    auto image = demo::office_pc().build();
    const auto good = tool("sector --boot-sectors " + folder_.write("pc.img", image));
    EXPECT_NE(good.out.find("and is the same"), std::string::npos) << good.out;
    // The hidden sectors of the first volume's boot sector, and one byte of its code.
    const std::size_t first = std::size_t{2048} * 512;
    image[first + 0x1C] ^= 0x40U;
    image[first + 0x100] ^= 0x40U;
    const auto bad = tool("sector --boot-sectors " + folder_.write("bad.img", image));
    EXPECT_NE(bad.out.find("; 2 bytes differ"), std::string::npos) << bad.out;
    EXPECT_NE(bad.out.find("should be 2048; backup: 2048"), std::string::npos) << bad.out;
    EXPECT_NE(bad.out.find("other bytes in the backup"), std::string::npos);
}

TEST_F(Tool, UefiMachinesShowTheirApplications) {
    const auto story = demo::kiosk_stories().front();
    const auto disk = story.disk();
    const auto image = folder_.write("kiosk.img", disk);
    const auto flash = folder_.write("kiosk.fd", story.variables(disk));
    const auto systems = tool("systems --firmware uefi --variables " + flash + " " + image);
    EXPECT_NE(systems.out.find("signed by   CN = Almhof image signing"), std::string::npos) << systems.out;
    EXPECT_NE(systems.out.find("started by  Boot0004"), std::string::npos);
    const auto json =
        nlohmann::json::parse(tool("systems --format json --firmware uefi --variables " + flash + " " + image).out);
    EXPECT_EQ(json.at("efi_applications").size(), 3U);
    const auto entries = tool("entries --variables " + flash + " " + image);
    EXPECT_NE(entries.out.find("Secure Boot is on"), std::string::npos) << entries.out;
    EXPECT_NE(entries.out.find("may start: 1 certificate, 0 digests"), std::string::npos) << entries.out;
    EXPECT_NE(entries.out.find("by CN = Almhof image signing"), std::string::npos) << entries.out;
    EXPECT_EQ(tool("check --firmware uefi --variables " + flash + " " + image).status, 0);
    const auto small = tool("check --firmware uefi32 " + image);
    EXPECT_EQ(small.status, 1);
    EXPECT_NE(small.out.find("BOOTIA32.EFI"), std::string::npos) << small.out;
}

TEST_F(Tool, EntriesNameWhoMayWitnessTimes) {
    const std::string security = "d719b2cb-3d3a-4596-a3bc-dad00e67656f";
    const forge::SigningKey house("Almhof door"), clock("Almhof clock");
    const auto image = folder_.write("kiosk.img", demo::kiosk_stories().front().disk());
    const auto with = [&](const std::vector<forge::Bytes>& witnesses) {
        std::vector<forge::Variable> all = {
            {"PK", "8be4df61-93ca-11d2-aa0d-00e098032b8c", forge::make_certificate_list({house.certificate()})},
            {"db", security, forge::make_certificate_list({house.certificate()})}};
        if (!witnesses.empty()) all.push_back({"dbt", security, forge::make_certificate_list(witnesses)});
        return tool("entries --variables " + folder_.write("kiosk.fd", forge::make_flash(all)) + " " + image).out;
    };
    EXPECT_EQ(with({}).find("dbt"), std::string::npos);
    const auto one = with({clock.certificate()});
    const auto at = one.find("  dbt  may witness times: 1 certificate, 0 digests\n            CN = Almhof clock\n");
    ASSERT_NE(at, std::string::npos) << one;
    EXPECT_LT(one.find("  db  may start: 1 certificate, 0 digests\n            CN = Almhof door\n"), at) << one;
    EXPECT_NE(
        with({clock.certificate(), house.certificate()}).find("  dbt  may witness times: 2 certificates, 0 digests\n"),
        std::string::npos);
}

/// A proposal that sets variables, written as the firmware's flash image: with it the machine starts.
TEST_F(Tool, MendWritesTheVariablesOfAProposal) {
    const auto stories = demo::kiosk_stories();
    const auto write = [&](const std::string& name) {
        const auto story = std::ranges::find(stories, name, &demo::KioskStory::name);
        const auto disk = story->disk();
        folder_.write(name + ".fd", story->variables(disk));
        return folder_.write(name + ".img", disk) + " --firmware uefi --variables ";
    };
    const auto gone = write("kiosk-gone");
    const auto flash = folder_.file("kiosk-gone.fd");
    const auto before = support::file_bytes(flash);
    const auto mended = folder_.file("mended.fd");
    EXPECT_EQ(tool("check " + gone + flash).status, 1);
    const auto made = tool("mend " + gone + flash + " --proposal 2 --variables-to " + mended);
    EXPECT_EQ(made.status, 0) << made.out;
    EXPECT_EQ(tool("check " + gone + mended).status, 0);
    EXPECT_EQ(support::file_bytes(flash), before);
    EXPECT_EQ(support::file_bytes(mended).size(), before.size());
    const auto again = tool("mend " + gone + flash + " --proposal 2 --variables-to " + mended);
    EXPECT_EQ(again.status, 2) << again.out;
    EXPECT_EQ(tool("mend " + gone + flash + " --proposal 3 --replace --variables-to " + mended).status, 0);
    struct Refused {
        std::string what, says;
    };
    const auto unsigned_one = write("kiosk-unsigned") + folder_.file("kiosk-unsigned.fd");
    for (const auto& [what, says] : std::initializer_list<Refused>{
             {gone + flash + " --proposal 9 --variables-to ", "herberge: there is no proposal 9\n"},
             {gone + flash + " --proposal 9 --patch-to ", "herberge: there is no proposal 9\n"},
             {gone + flash + " --proposal 2 --patch-to ",
              "herberge: proposal 2 changes no disk: --steps-to tells what to set\n"},
             {unsigned_one + " --variables-to ", "herberge: proposal 1 changes no variable\n"}}) {
        const auto refused = tool("mend " + what + folder_.file("none"));
        EXPECT_EQ(refused.status, 1) << what;
        EXPECT_NE(refused.out.find(says), std::string::npos) << refused.out;
        EXPECT_FALSE(std::filesystem::exists(folder_.file("none")));
    }
}

TEST_F(Tool, JsonAgreesWithText) {
    const auto ran = tool("check --format json " + disk("cut-ramdisk.img"));
    EXPECT_EQ(ran.status, 1);
    EXPECT_EQ(nlohmann::json::parse(ran.out).at("systems").at(0).at("stops_at"), "ramdisk");
}

TEST_F(Tool, StatsTellTheBytesRead) {
    const auto ran = tool("check --stats " + disk("healthy.img"));
    EXPECT_NE(ran.out.find("read "), std::string::npos);
    EXPECT_NE(ran.out.find(" reads; "), std::string::npos);
}

TEST_F(Tool, LayoutDrawsAndNames) {
    const auto ran = tool("layout " + disk("healthy.img"));
    EXPECT_EQ(ran.status, 0);
    for (const char* piece :
         {"┌", "p1 ext4", "hd0,msdos2", "a1a10f01-01", "83 Linux, active", "before the first partition", "frontdesk"})
        EXPECT_NE(ran.out.find(piece), std::string::npos) << piece;
}

TEST_F(Tool, SectorNamesFields) {
    const auto ran = tool("sector " + disk("healthy.img"));
    EXPECT_EQ(ran.status, 0);
    for (const char* piece :
         {"kernel_sector", "entries[0].first_lba", "loads sector 1 to 0000:8000", "“GRUB ”", "disk_signature"})
        EXPECT_NE(ran.out.find(piece), std::string::npos) << piece;
    EXPECT_NE(tool("sector " + folder_.file("healthy.img") + " --at d1p1@1024").out.find("superblock of d1p1"),
              std::string::npos);
    EXPECT_EQ(tool("sector " + folder_.file("healthy.img") + " --at d1@99999999999999").status, 3);
    EXPECT_EQ(tool("sector " + folder_.file("healthy.img") + " --at somewhere").status, 2);
    EXPECT_EQ(tool("sector " + folder_.file("healthy.img") + " --at d1p4").status, 2);
}

TEST_F(Tool, EntriesShowWhatResolves) {
    const auto ran = tool("entries " + disk("wrong-kernel.img"));
    EXPECT_EQ(ran.status, 0);
    for (const char* piece : {"the menu stays hidden (Esc or F4, or Shift held down shows it)", "does not resolve",
                              "but there is /boot/vmlinuz-6.1.2-almhof", "1>0"})
        EXPECT_NE(ran.out.find(piece), std::string::npos) << piece << "\n" << ran.out;
}

TEST_F(Tool, FilesAreListedAndCopiedOutExactly) {
    const std::string image = disk("healthy.img");
    const auto listed = tool("files " + image + " --in d1p1:/boot");
    EXPECT_EQ(listed.status, 0);
    EXPECT_NE(listed.out.find("vmlinuz-6.1.0-almhof"), std::string::npos);
    EXPECT_NE(tool("files " + image + " --in d1p1:/").out.find("vmlinuz -> boot/vmlinuz-6.1.0-almhof"),
              std::string::npos);
    EXPECT_EQ(tool("files " + image + " --in d1p1:/boto").status, 3);
    EXPECT_NE(tool("files " + image + " --in d1p1:/boto").out.find("there is /boot"), std::string::npos);
    EXPECT_EQ(tool("files " + image + " --in d1p2:/").status, 3);
    const std::string copy = folder_.file("kernel");
    EXPECT_EQ(tool("copy " + image + " --from d1p1:/vmlinuz --to " + copy).status, 0);
    std::ifstream in(copy, std::ios::binary);
    const std::string got((std::istreambuf_iterator<char>(in)), {});
    const auto wanted = forge::make_kernel({demo::release});
    EXPECT_EQ(got, std::string(wanted.begin(), wanted.end()));
    EXPECT_EQ(tool("copy " + image + " --from d1@510+2 --to - | od -An -tx1 | head -n 1").out.substr(0, 6), " 55 aa");
    EXPECT_EQ(tool("copy " + image + " --from d1@0+512 --to " + image).status, 2) << "an image is never written";
}

TEST_F(Tool, ImagesAreLeftUntouched) {
    const std::string image = disk("healthy.img");
    const auto before = std::filesystem::last_write_time(image);
    const std::string sum = shell("cksum < " + image).out;
    for (const char* command : {"check ", "layout ", "sector ", "entries "}) tool(command + image);
    EXPECT_EQ(shell("cksum < " + image).out, sum);
    EXPECT_EQ(std::filesystem::last_write_time(image), before);
}

struct Bad {
    const char* name;
    std::function<std::string(const support::Folder&)> make;
    int status;
    const char* says;
};
class BadInput : public testing::TestWithParam<Bad> {};
TEST_P(BadInput, GetsAClearAnswer) {
    const support::Folder folder;
    const auto ran = tool("check " + GetParam().make(folder));
    EXPECT_EQ(ran.status, GetParam().status) << ran.out;
    EXPECT_NE(ran.out.find(GetParam().says), std::string::npos) << ran.out;
}
INSTANTIATE_TEST_SUITE_P(
    All, BadInput,
    testing::Values(
        Bad{"Absent", [](const auto& f) { return f.file("nothing"); }, 3, "No such file"},
        Bad{"Empty", [](const auto& f) { return f.write("e", {}); }, 3, "empty file"},
        Bad{"Bytes511", [](const auto& f) { return f.write("s", forge::Bytes(511)); }, 1, "stops at firmware"},
        Bad{"Directory", [](const auto& f) { return f.file(""); }, 3, "a directory"},
        Bad{"Random", [](const auto& f) { return f.write("r", forge::noise(1U << 20U, 3)); }, 1, "stops at firmware"},
        Bad{"Truncated",
            [](const auto& f) {
                auto image = demo::front_desk().build();
                image.resize(3U << 20U);
                return f.write("t", image);
            },
            1, "stops at"},
        Bad{"RamdiskBomb",
            [](const auto& f) {
                auto d = demo::front_desk();
                d.rebuild_ramdisk = false;
                d.root.file(std::string("/boot/initrd.img-") + demo::release, forge::xz(forge::Bytes(90U << 20U, 'A')));
                return f.write("b", d.build());
            },
            1, "stops at ramdisk"},
        Bad{"RamdiskGrowsWithoutEnd",
            [](const auto& f) {
                auto d = demo::front_desk();
                d.rebuild_ramdisk = false;
                d.root.file(std::string("/boot/initrd.img-") + demo::release,
                            forge::xz(forge::make_cpio(forge::Tree().file("/a", forge::Bytes(90U << 20U)))));
                return f.write("b", d.build());
            },
            4, "the RAM disk unpacks to more than is looked at here"}),
    support::by_name);

TEST_F(Tool, WrongUsageIsToldApart) {
    EXPECT_EQ(tool("").status, 2);
    EXPECT_EQ(tool("chekc x").status, 2);
    EXPECT_EQ(tool("check").status, 2);
    EXPECT_EQ(tool("check --format xml x").status, 2);
    EXPECT_EQ(tool("--help").status, 0);
    EXPECT_EQ(tool("--version").out, "herberge 0.1.0\n");
    for (const char* command :
         {"check", "systems", "startup", "layout", "sector", "entries", "files", "copy", "rehearse", "demo"}) {
        const auto help = tool(std::string(command) + " --help");
        EXPECT_EQ(help.status, 0);
        EXPECT_NE(help.out.find("Example"), std::string::npos) << command;
        EXPECT_NE(
            shell(std::string("cat ") + SOURCE_DIR + "/tool/herberge.1").out.find(std::string("\n.SS ") + command),
            std::string::npos)
            << command;
        EXPECT_NE(shell(std::string("cat ") + SOURCE_DIR + "/tool/herberge.bash").out.find(command), std::string::npos)
            << command;
    }
}

/// What each command shows of the demo disks, to the letter: tests/views/ has what somebody looked at and found good.
/// HERBERGE_WRITE_VIEWS=1 writes them anew, to be looked at again.
struct View {
    const char* name;
    const char* command;
    int status;
};
const View views[] = {
    {"check", "check healthy.img --evidence", 0},
    {"check-broken", "check wrong-kernel.img", 1},
    {"check-uefi", "check kiosk-tampered.img --firmware uefi --variables kiosk-tampered.fd", 1},
    {"check-windows", "check office-pc-ahci-off.img", 1},
    {"check-symptom", "symptom wrong-kernel.img --seen 'error: unknown filesystem.'", 0},
    {"compare", "compare healthy.img cloned-root.img", 1},
    {"entries", "entries office.img archive.img", 0},
    {"files", "files healthy.img --in d1p1:/boot", 0},
    {"layout", "layout healthy.img", 0},
    {"layout-disc", "layout help.iso", 0},
    {"layout-volumes", "layout ledger-1.img ledger-2.img", 0},
    {"layout-windows", "layout office-pc.img", 0},
    {"mend", "mend wrong-kernel.img", 0},
    {"mend-bring", "mend reception-no-library.img", 1},
    {"rehearse", "rehearse healthy.img", 1},
    {"sector", "sector healthy.img", 0},
    {"startup", "startup reception.img", 0},
    {"startup-levels", "startup kitchen-no-rc.img", 0},
    {"startup-windows", "startup office-pc.img", 0},
    {"suppose", "suppose wrong-kernel.img --kernel d1p1:/boot/vmlinuz-6.1.2-almhof", 1},
    {"systems", "systems office.img archive.img", 0},
    {"variables", "variables kiosk.fd", 0},
    // Boards, locks, levels, kinds of sectors, and what is handed on.
    {"boards", "boards station.img", 0},
    {"check-board", "check station-tree.img --firmware board:sunxi-h3-brom", 1},
    {"check-locked", "check vault.img", 4},
    {"check-unlocked", "check vault.img --unlock d1p2=vault.key", 0},
    {"compare-windows", "compare office-pc.img office-pc-ahci-off.img", 1},
    {"entries-board", "entries station.img --firmware board:sunxi-h3-brom", 0},
    {"entries-uefi", "entries kiosk-tampered.img --variables kiosk-tampered.fd", 0},
    {"layout-locked", "layout vault.img", 0},
    {"mend-patch", "mend wrong-kernel.img --patch-to -", 0},
    {"mend-steps", "mend wrong-kernel.img --steps-to -", 0},
    {"mend-undo", "mend wrong-kernel.img --undo-to -", 0},
    {"rehearse-broken", "rehearse lost-core.img", 1},
    {"report-html", "report no-init.img --hash", 1},
    {"report-junit", "report office.img archive.img --format junit", 1},
    {"report-markdown", "report reception-no-archive.img --format markdown", 1},
    {"report-uefi", "report kiosk-tampered.img --firmware uefi --variables kiosk-tampered.fd --format markdown", 1},
    {"report-sarif", "report reception-no-archive.img --format sarif", 1},
    {"sector-as", "sector healthy.img --at d1p1:/vmlinuz --byte 497 --as linux-setup", 0},
    {"sector-backups", "sector office-pc.img --boot-sectors", 0},
    {"sector-kinds", "sector --kinds", 0},
    {"startup-safe", "startup office-pc.img --mode safe", 0},
    {"startup-table", "startup kitchen.img --levels", 0},
    {"startup-two-levels", "startup kitchen.img --level 2 --level 3", 0},
    {"symptom-alone", "symptom --seen 0xc000000f", 0},
    {"systems-dot", "systems office.img archive.img --format dot", 0},
    {"systems-svg", "systems office.img archive.img --format svg", 0},
    {"variable", "variables kiosk.fd --name Boot0004", 0},
    {"variable-list", "variables kiosk-tampered.fd --name db", 0},
    // The documents of the same.
    {"boards-json", "boards station.img --format json", 0},
    {"check-uefi-json", "check kiosk-tampered.img --firmware uefi --variables kiosk-tampered.fd --format json", 1},
    {"files-json", "files healthy.img --in d1p1:/boot --format json", 0},
    {"sector-as-json", "sector healthy.img --at d1p1:/vmlinuz --byte 497 --as linux-setup --format json", 0},
    {"startup-table-json", "startup kitchen.img --levels --format json", 0},
    {"suppose-json", "suppose wrong-kernel.img --kernel d1p1:/boot/vmlinuz-6.1.2-almhof --format json", 1},
    {"variable-json", "variables kiosk.fd --name Boot0004 --format json", 0},
    {"check-broken-json", "check wrong-kernel.img --format json", 1},
    {"compare-json", "compare healthy.img cloned-root.img --format json", 1},
    {"entries-json", "entries office.img archive.img --format json", 0},
    {"layout-json", "layout ledger-1.img ledger-2.img --format json", 0},
    {"mend-json", "mend wrong-kernel.img --format json", 0},
    {"rehearse-json", "rehearse healthy.img --format json", 1},
    {"startup-json", "startup reception.img --format json", 0},
    {"startup-windows-json", "startup office-pc.img --format json", 0},
    {"symptom-json", "symptom wrong-kernel.img --seen 'error: unknown filesystem.' --format json", 0},
    {"systems-json", "systems office.img archive.img --format json", 0},
    {"variables-json", "variables kiosk.fd --format json", 0},
};

/// How long it took is another at each run, and so is the key of a certificate.
std::string without_what_changes(const std::string& text) {
    static const std::regex took(R"((Took[^0-9]*|time=")\d+\.?\d*)"), digest("(  SHA-256 )[0-9a-f]{64}");
    return std::regex_replace(std::regex_replace(text, took, "$1…"), digest, "$1…");
}

void compare_views(const std::string& folder) {
    const std::string kept = std::string(SOURCE_DIR) + "/tests/views/";
    // What a report tells as its time, and as that of the images.
    ::setenv("SOURCE_DATE_EPOCH", "1796083200", 1);
    for (const auto& file : std::filesystem::directory_iterator(folder)) {
        const timespec day{1796083200, 0};
        const std::array<timespec, 2> times{day, day};
        EXPECT_EQ(::utimensat(AT_FDCWD, file.path().c_str(), times.data(), 0), 0);
    }
    for (const auto& view : views) {
        auto ran = shell("cd " + folder + " && " + TOOL_PATH + " " + view.command + " 2>&1");
        EXPECT_EQ(ran.status, view.status) << view.command;
        ran.out = without_what_changes(ran.out);
        const std::string path = kept + view.name + ".txt";
        if (std::getenv("HERBERGE_WRITE_VIEWS") != nullptr) std::ofstream(path) << ran.out;
        std::ifstream file(path);
        const std::string expected(std::istreambuf_iterator<char>(file), {});
        EXPECT_EQ(ran.out, expected) << view.command;
    }
}

TEST_F(Tool, DemoWritesAndWalks) {
    const auto ran = tool("demo " + folder_.file("demo"));
    EXPECT_EQ(ran.status, 0);
    compare_views(folder_.file("demo"));
    for (const auto& story : demo::front_desk_disks()) {
        EXPECT_NE(ran.out.find(story.name), std::string::npos);
        if (!story.stops_at.empty())
            EXPECT_NE(ran.out.find("stops at " + story.stops_at), std::string::npos) << story.stops_at;
    }
}

TEST_F(Tool, TheDemoReplacesOnlyWhatItWrote) {
    // The first disk was written by an earlier run; somebody else's file has the name of the second.
    const auto stories = demo::front_desk_disks();
    const auto folder = folder_.file("inn");
    std::filesystem::create_directory(folder);
    const auto first = folder + "/" + stories.at(0).name, second = folder + "/" + stories.at(1).name;
    std::ofstream(folder + "/demo-disks.txt") << stories.at(0).name << "\n";
    std::ofstream(first) << "half written";
    std::ofstream(second) << "precious";
    const auto refused = tool("demo " + folder);
    EXPECT_EQ(refused.status, 3);
    EXPECT_NE(refused.out.find(stories.at(1).name + " is there already and was not written by this command; nothing is "
                                                    "replaced"),
              std::string::npos)
        << refused.out;
    EXPECT_EQ(support::file_bytes(first), stories.at(0).make()) << "its own file may be written again";
    EXPECT_EQ(support::file_bytes(second), forge::to_bytes("precious"));
    // A link is somebody else's, too, whatever it leads to.
    std::filesystem::remove(second);
    std::filesystem::create_symlink(folder + "/none", second);
    EXPECT_EQ(tool("demo " + folder).status, 3);
    EXPECT_FALSE(std::filesystem::exists(folder + "/none"));
}

TEST_F(Tool, CopiesReplaceNothingUnlessTold) {
    const auto image = disk("healthy.img");
    const auto target = folder_.file("out");
    const std::string what = "copy " + image + " --from d1@510+2 --to ";
    EXPECT_EQ(tool(what + target).status, 0);
    EXPECT_EQ(std::filesystem::file_size(target), 2U);
    std::ofstream(target, std::ios::trunc) << "precious";
    const auto refused = tool(what + target);
    EXPECT_EQ(refused.status, 3);
    EXPECT_NE(refused.out.find("is there already; --replace replaces it"), std::string::npos) << refused.out;
    EXPECT_EQ(std::filesystem::file_size(target), 8U);
    EXPECT_EQ(tool(what + target + " --replace").status, 0);
    EXPECT_EQ(std::filesystem::file_size(target), 2U);
    // A copy that fails half-way leaves nothing, and what was there stays.
    std::ofstream(folder_.file("bad")) << "3 1\n";
    const auto failed =
        tool("copy " + image + " --unreadable " + folder_.file("bad") + " --from d1@0+4096 --replace --to " + target);
    EXPECT_EQ(failed.status, 3);
    EXPECT_EQ(std::filesystem::file_size(target), 2U);
    EXPECT_EQ(
        tool("copy " + image + " --unreadable " + folder_.file("bad") + " --from d1@0+4096 --to " + folder_.file("new"))
            .status,
        3);
    std::size_t files = 0;
    for (const auto& entry : std::filesystem::directory_iterator(folder_.file("")))
        files += entry.path().filename().string().starts_with("new") ? 1 : 0;
    EXPECT_EQ(files, 0U) << "no temporary file stays behind";
    EXPECT_EQ(tool(what + folder_.file("")).status, 3) << "a folder";
    EXPECT_EQ(tool(what + "/dev/null").status, 0);
    EXPECT_TRUE(std::filesystem::is_character_file("/dev/null"));
    EXPECT_EQ(tool(what + image + " --replace").status, 2) << "never an image";
}

/// A path in a report of results is a reference: all that is not unreserved there stands as %XX (RFC 3986, 2.3).
TEST_F(Tool, PathsInResultsAreReferences) {
    const std::string name = "azAZ09 -._~@[`{/:%ä.img";
    std::filesystem::create_directory(folder_.file("azAZ09 -._~@[`{"));
    std::filesystem::rename(disk("no-init.img"), folder_.file(name));
    const auto ran = shell("cd '" + folder_.file("") + "' && " + TOOL_PATH + " report --format sarif '" + name + "'");
    EXPECT_EQ(ran.status, 1);
    const auto json = nlohmann::json::parse(ran.out);
    EXPECT_EQ(json.at("runs").at(0).at("artifacts").at(0).at("location").at("uri"),
              "azAZ09%20-._~%40%5B%60%7B/%3A%25%C3%A4.img");
    const auto whole = nlohmann::json::parse(tool("report --format sarif '" + folder_.file(name) + "'").out);
    const std::string uri = whole.at("runs").at(0).at("artifacts").at(0).at("location").at("uri");
    EXPECT_TRUE(uri.starts_with("file:///")) << uri;
}

TEST_F(Tool, OutputThatIsNotWrittenIsAnError) {
    const auto image = disk("healthy.img");
    const auto full = shell("(" + std::string(TOOL_PATH) + " check " + image + " > /dev/full)");
    EXPECT_EQ(full.status, 3);
    EXPECT_NE(full.out.find("could not be written"), std::string::npos) << full.out;
    EXPECT_EQ(shell("(" + std::string(TOOL_PATH) + " check " + image + " >&-)").status, 3);
    EXPECT_EQ(shell("(" + std::string(TOOL_PATH) + " copy " + image + " --from d1@0+512 --to - > /dev/full)").status,
              3);
}

/// The number of a stream that is closed goes to the next file that is opened: none of ours may get it.
TEST_F(Tool, ClosedStreamsChangeNothing) {
    const auto command = std::string(TOOL_PATH) + " check " + disk("healthy.img");
    const auto usual = shell(command);
    EXPECT_EQ(usual.status, 0) << usual.out;
    for (const char* closed : {" <&-", " 2>&-", " <&- 2>&-"}) {
        const auto ran = shell("(" + command + closed + ")");
        EXPECT_EQ(ran.status, 0) << closed;
        EXPECT_EQ(ran.out, usual.out) << closed;
    }
}

TEST_F(Tool, InputsWithoutAnEndAreRefused) {
    const auto image = disk("healthy.img");
    const auto pipe = folder_.file("pipe");
    ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
    for (const std::string& input : {pipe, std::string("/dev/zero"), folder_.file("")})
        for (const std::string option : {"--unreadable ", "--firmware uefi --variables "}) {
            const auto ran = tool("check " + image + " " + option + input);
            EXPECT_EQ(ran.status, 3) << option << input << ran.out;
        }
    EXPECT_EQ(tool("check " + pipe).status, 3);
    // Many lines are sorted, not walked at every read.
    std::ofstream list(folder_.file("list"));
    for (int i = 0; i < 200'000; ++i) list << 100'000 + i * 2 << " 1\n";
    list.close();
    EXPECT_EQ(tool("check " + image + " --unreadable " + folder_.file("list")).status, 0);
}

/// "first count": those sectors, and neither of their neighbours.
TEST_F(Tool, UnreadableSectorsAreTheseAndNoOthers) {
    const auto image = disk("healthy.img");
    const auto list = folder_.write("lost.txt", forge::to_bytes("# the third on\n3 2\n\nd1 9 1\n"));
    const auto at = [&](int sector) {
        return tool("sector " + image + " --unreadable " + list + " --at d1@" + std::to_string(sector * 512)).status;
    };
    for (const int sector : {0, 2, 5, 8, 10}) EXPECT_EQ(at(sector), 0) << sector;
    for (const int sector : {3, 4, 9}) EXPECT_EQ(at(sector), 3) << sector;
    for (const char* wrong : {"3", "3 x", "d1", "dx 3 1", "3 1 1", "18014398509481984 1", "3 18014398509481984"})
        EXPECT_EQ(
            tool("sector " + image + " --unreadable " + folder_.write("wrong.txt", forge::to_bytes(wrong))).status, 2)
            << wrong;
}

/// Moments of keys: a day at most, and a key that there is.
TEST_F(Tool, KeysAreTakenAtMomentsOfADay) {
    const auto image = disk("healthy.img");
    for (const char* good : {"0:esc", "2:esc,3.5:enter", "86399.9:enter"})
        EXPECT_NE(tool("rehearse " + image + " --keys " + good).status, 2) << good;
    for (const char* wrong : {"86400:esc", "-1:esc", ":esc", "1x:esc", "1:hut", "1", "esc", "1:esc,", "nan:esc", "2:"})
        EXPECT_EQ(tool("rehearse " + image + " --keys=" + wrong).status, std::string(wrong) == "1:esc," ? 1 : 2)
            << wrong;
}

TEST_F(Tool, UnreadableSectorsThatAreAskedForAreListed) {
    const auto image = disk("healthy.img");
    std::ofstream(folder_.file("bad")) << "# one sector of the gap\nd1 1 1\n20000 4\n";
    const auto ran = tool("check " + image + " --unreadable " + folder_.file("bad"));
    EXPECT_EQ(ran.status, 1);
    EXPECT_NE(ran.out.find("a start asks for 1 range:\n  d1@512+512\n"), std::string::npos) << ran.out;
    std::ofstream(folder_.file("bad"), std::ios::trunc) << "20000 4\n";
    EXPECT_NE(tool("check " + image + " --unreadable " + folder_.file("bad")).out.find("Nothing that a start reads"),
              std::string::npos);
}

TEST_F(Tool, HundredsOfDisksAreTaken) {
    const auto image = folder_.write("empty.img", forge::Bytes(4096));
    std::string all;
    for (int i = 0; i < 256; ++i) all += " " + image;
    const auto ran = tool("check" + all);
    EXPECT_EQ(ran.status, 1);
    EXPECT_NE(ran.out.find("d256 "), std::string::npos);
}

TEST(Shown, NothingTurnsOthersAroundOrPosesAsAnEscape) {
    EXPECT_EQ(herberge::printable("inn\xE2\x80\xAEgnp.exe"), "inn\\xe2\\x80\\xaegnp.exe");  // U+202E
    EXPECT_EQ(herberge::printable("a\xE2\x80\x8B"
                                  "b\xEF\xBB\xBF"),
              "a\\xe2\\x80\\x8bb\\xef\\xbb\\xbf");
    EXPECT_EQ(herberge::printable("Gästezimmer 4 → Süd"), "Gästezimmer 4 → Süd");
    // A backslash that could be taken for an escape is doubled; others stay.
    EXPECT_EQ(herberge::printable("\x1b"), "\\x1b");
    EXPECT_EQ(herberge::printable("\\x1b"), "\\\\x1b");
    EXPECT_EQ(herberge::printable("\\\\x1b"), "\\\\\\\\x1b");
    EXPECT_EQ(herberge::printable("C:\\Windows\\xyz"), "C:\\Windows\\xyz");
    EXPECT_EQ(herberge::shown(herberge::printable("\x1b \\x1b")), "\\x1b \\\\x1b")
        << "a sentence around a printable name changes nothing";
    EXPECT_EQ(herberge::shown("\x1b"), "\\x1b");
}

TEST_F(Tool, RehearseShowsTimeLineAndScreen) {
    const auto ran = tool("rehearse " + disk("healthy.img"));
    EXPECT_EQ(ran.status, 1) << "it ends in a stand-in, not in a kernel";
    for (const char* piece :
         {"code from d1 first sector runs", "stage loader", "│GRUB loading..", "This is a stand-in for a loader"})
        EXPECT_NE(ran.out.find(piece), std::string::npos) << piece << ran.out;
    EXPECT_EQ(tool("rehearse --until loader " + folder_.file("healthy.img")).status, 0);
    EXPECT_EQ(tool("rehearse --until attic " + folder_.file("healthy.img")).status, 2);
    EXPECT_EQ(tool("rehearse --keys noon:esc " + folder_.file("healthy.img")).status, 2);
    EXPECT_EQ(nlohmann::json::parse(tool("rehearse --format json " + folder_.file("healthy.img")).out).at("end"),
              "halted");
}

TEST_F(Tool, ExamplesWork) {
    const std::string examples = EXAMPLES_DIR;
    EXPECT_EQ(shell(examples + "/check_disk " + disk("healthy.img")).out, "Almhof Desk 4 (Enzian) on d1p1: starts\n");
    const auto broken = shell(examples + "/check_disk " + disk("no-init.img"));
    EXPECT_EQ(broken.status, 1);
    EXPECT_EQ(broken.out.rfind("Almhof Desk 4 (Enzian) on d1p1: stops at init, because ", 0), 0U);
    EXPECT_NE(shell(examples + "/list_volume " + folder_.file("healthy.img") + " d1p1 /etc").out.find("inittab"),
              std::string::npos);
    EXPECT_EQ(shell(examples + "/list_volume " + folder_.file("healthy.img") + " d1p9 /").status, 1);
    const auto gate =
        shell(examples + "/watch_images --once " + std::filesystem::path(disk("no-init.img")).parent_path().string());
    EXPECT_EQ(gate.status, 1);
    EXPECT_NE(gate.out.find("no-init.img: refused"), std::string::npos);
    EXPECT_NE(gate.out.find("healthy.img: accepted"), std::string::npos);
}

}  // namespace
