// SPDX-License-Identifier: MIT
// GRUB's own first sector, core and modules, from the package of the distribution, on a demo disk: what running them in
// the emulated PC proves where bytes of their code are other than they were.
#include "support.hpp"

using namespace herberge;
using support::Bytes;
using support::file_bytes;

namespace {

const std::string package = "/usr/lib/grub/i386-pc/";

class RealGrub : public testing::Test {
protected:
    void SetUp() override {
        if (support::shell("command -v grub-mkimage").status != 0 || !std::filesystem::exists(package + "normal.mod"))
            GTEST_SKIP() << "grub-common and grub-pc-bin are not installed";
        install("-p '(,msdos1)/boot/grub'", "");
    }
    /// A core with these options and modules more, put on the disk.
    void install(const std::string& options, const std::string& modules) {
        const auto made = support::shell("cd " + folder_.file("") + " && grub-mkimage -O i386-pc " + options +
                                         " -o core.img biosdisk part_msdos ext2 " + modules);
        ASSERT_EQ(made.status, 0) << made.out;
        core_ = file_bytes(folder_.file("core.img"));
        auto desk = demo::front_desk();
        desk.root.remove("/boot/grub/i386-pc");
        for (const auto& entry : std::filesystem::directory_iterator(package))
            if (const auto kind = entry.path().extension(); kind == ".mod" || kind == ".lst")
                desk.root.file("/boot/grub/i386-pc/" + entry.path().filename().string(),
                               file_bytes(entry.path().string()));
        desk.root.file("/boot/grub/i386-pc/core.img", core_);
        desk.ext.size = 24U << 20U;
        desk.disk.size = 34U << 20U;
        // What its installer fills in (util/setup.c): the core's first sector, and where the rest of it lies.
        auto boot = file_bytes(package + "boot.img");
        forge::put64(boot, 0x5C, 1);
        boot[0x66] = boot[0x67] = 0x90;
        boot.resize(440);
        desk.disk.boot_code = boot;
        auto gap = core_;
        gap.resize((gap.size() + 511) / 512 * 512);
        forge::put64(gap, 500, 2);
        forge::put16(gap, 508, static_cast<std::uint16_t>(gap.size() / 512 - 1));
        forge::put16(gap, 510, 0x820);
        desk.disk.gap = gap;
        image_ = desk.build();
    }
    /// Where these bytes lie in the code in front of the packed part, on the disk.
    [[nodiscard]] std::size_t in_code(std::size_t from, const Bytes& wanted) const {
        const auto begin = image_.begin() + static_cast<std::ptrdiff_t>(from);
        const auto at = std::search(begin, image_.begin() + 512 * 6, wanted.begin(), wanted.end());
        EXPECT_NE(at, image_.begin() + 512 * 6);
        return static_cast<std::size_t>(at - image_.begin());
    }
    static const StageState& loader(const support::Checked& checked) { return checked.system().at(Stage::Loader); }

    support::Folder folder_;
    Bytes core_, image_;
};

TEST_F(RealGrub, StartsAndItsCodeIsKnown) {
    const support::Checked checked(image_);
    EXPECT_EQ(checked.stage(), "yes") << loader(checked).text;
    EXPECT_FALSE(checked.has(Code::LoaderCodeDiffers));
    EXPECT_TRUE(std::ranges::any_of(loader(checked).evidence, [](const Evidence& e) {
        return e.found == "its start-up code is that of d1p1:/boot/grub/i386-pc/core.img";
    })) << loader(checked).text;
}

TEST_F(RealGrub, AByteThatMakesNoDifferenceIsARiskAndRunningProvesIt) {
    // The first "cli" of the start-up code becomes "hlt": interrupts are on there, and the next one wakes it.
    auto image = image_;
    const auto at = in_code(1024 + 0x20, {0xFA});
    image[at] = 0xF4;
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "yes") << loader(checked).text;
    const auto& all = checked.verdict.findings;
    const auto found = std::ranges::find(all, Code::LoaderCodeDiffers, &Finding::code);
    ASSERT_NE(found, all.end()) << loader(checked).text;
    EXPECT_EQ(found->severity, Severity::Risk);
    EXPECT_EQ(found->text,
              "1 byte of GRUB 2's start-up code differs from the same code in its file, and no installer writes there; "
              "run in an emulated PC, it works all the same");
    ASSERT_FALSE(found->evidence.empty());
    EXPECT_EQ(found->evidence[0].range, (DiskRange{1, at, 1}));
    EXPECT_EQ(found->evidence[0].expected, "fa, as in d1p1:/boot/grub/i386-pc/core.img");
    EXPECT_EQ(found->evidence[0].found, "f4");
}

TEST_F(RealGrub, AByteThatHaltsItStopsTheLoader) {
    // "lgdt", behind a "cli": nothing wakes a processor that is halted there.
    auto image = image_;
    const auto at = in_code(1024 + 0x20, {0x0F, 0x01, 0x16});
    image[at] = 0xF4;
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "loader") << loader(checked).text;
    const auto& rung = loader(checked);
    EXPECT_EQ(rung.findings, std::vector<Code>{Code::LoaderDoesNotWork}) << rung.text;
    EXPECT_EQ(rung.state, State::Breaks);
    EXPECT_EQ(rung.text,
              "run in an emulated PC, GRUB 2 is loaded and does not work: the CPU is halted with interrupts off");
    EXPECT_EQ(checked.system().at(Stage::BootCode).state, State::Holds);
    EXPECT_EQ(checked.system().at(Stage::Configuration).state, State::NotReached);
}

TEST_F(RealGrub, ADecoderThatIsOverwrittenStopsTheLoader) {
    // Within the code that corrects and unpacks the rest, which runs in protected mode.
    auto image = image_;
    const std::size_t at = 2704, count = 48;
    std::fill_n(image.begin() + at, count, std::uint8_t{0x0B});  // "or" of nothing sensible
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "loader") << loader(checked).text;
    const auto& rung = loader(checked);
    EXPECT_EQ(rung.findings, std::vector<Code>{Code::LoaderDoesNotWork});
    EXPECT_TRUE(
        rung.text.starts_with("48 bytes of GRUB 2's start-up code differ from the same code in its file, and no "
                              "installer writes there; run in an emulated PC, it does not work: "))
        << rung.text;
    ASSERT_EQ(rung.evidence.size(), 5U) << "the first four, and the run";
    EXPECT_EQ(rung.evidence[0].range, (DiskRange{1, at, 1}));
    EXPECT_EQ(rung.evidence[3].range, (DiskRange{1, at + 3, 1}));
    EXPECT_EQ(rung.evidence[0].found, "0b");
    EXPECT_EQ(checked.system().at(Stage::Configuration).state, State::NotReached);
}

TEST_F(RealGrub, ALayoutThatIsNotDecodedIsRunAndTold) {
    // A letter of "Geom", by which the core's first sector is known, and which only an error shows.
    auto image = image_;
    image[in_code(512, forge::to_bytes("Geom"))] = 'g';
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(loader(checked).state, State::Holds);
    EXPECT_EQ(loader(checked).text,
              "run in an emulated PC, GRUB 2 comes as far as its menu or a kernel; its layout is none that is decoded "
              "here");
    EXPECT_EQ(checked.system().at(Stage::BootCode).state, State::Holds);
    EXPECT_EQ(checked.system().at(Stage::Configuration).state, State::Unknown);
    EXPECT_TRUE(checked.has(Code::RehearsalContradicts));
}

/// A core may bring a disk in memory (grub-mkimage(1), --memdisk): an archive as tar makes it, or a file system.
TEST_F(RealGrub, ADiskInMemoryHasItsConfiguration) {
    const std::string menu = "search --no-floppy --fs-uuid --set=root " + std::string(demo::root_uuid) +
                             "\nset prefix=($root)/boot/grub\nconfigfile /boot/grub/grub.cfg\n";
    std::filesystem::create_directories(folder_.file("boot/grub"));
    folder_.write("boot/grub/grub.cfg", forge::to_bytes(menu));
    ASSERT_EQ(support::shell("cd " + folder_.file("") +
                             " && tar --format=ustar -cf all.tar ./boot/grub && "
                             "tar --format=ustar -cf none.tar --exclude=grub.cfg ./boot/grub")
                  .status,
              0);
    const std::string more = "memdisk tar normal configfile search test";
    install("-p '(memdisk)/boot/grub' -m all.tar", more);
    const support::Checked whole(image_);
    EXPECT_EQ(whole.stage(), "yes") << loader(whole).text << whole.system().at(Stage::Configuration).text;
    EXPECT_NE(whole.system().at(Stage::Configuration).text.find("/boot/grub/grub.cfg"), std::string::npos)
        << whole.system().at(Stage::Configuration).text;
    // Its archive lacks the file: GRUB gives its prompt.
    install("-p '(memdisk)/boot/grub' -m none.tar", more);
    const support::Checked without(image_);
    EXPECT_EQ(without.stage(), "configuration") << without.system().at(Stage::Loader).text;
    EXPECT_EQ(without.system().at(Stage::Entry).state, State::NotReached);
    // A file system in place of the archive.
    forge::Tree tree;
    tree.file("/boot/grub/grub.cfg", menu);
    forge::ExtOptions ext;
    ext.size = 1U << 20U;
    folder_.write("fs.img", forge::make_ext(tree, ext));
    install("-p '(memdisk)/boot/grub' -m fs.img", more);
    EXPECT_EQ(support::Checked(image_).stage(), "yes");
}

}  // namespace
