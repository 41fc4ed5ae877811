// SPDX-License-Identifier: MIT
// Features of file systems: what a GRUB driver takes by its own code, and a kernel's by its version.
#include <fstream>

#include <fmt/format.h>

#include "files/features.hpp"
#include "loader/grub/features.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;

namespace {

/// GRUB 2.06: all that its ext2.c of that day supports or ignores.
constexpr std::uint32_t ext_of_2_06 = 0x103D6;
constexpr std::uint32_t large_dir = 0x4000;

Bytes with_constant(Bytes code, std::uint32_t value, bool swapped = false) {
    for (unsigned i = 0; i < 4; ++i) code.push_back(static_cast<std::uint8_t>(value >> (swapped ? 24 - 8 * i : 8 * i)));
    code.push_back(0x75);
    code.push_back(0x10);
    return code;
}

struct Form {
    const char* name;
    Bytes code;
    bool tests;
};
class Forms : public testing::TestWithParam<Form> {};
TEST_P(Forms, OnlyTestsOfBitsCount) {
    const auto code = with_constant(GetParam().code, ~ext_of_2_06);
    EXPECT_EQ(grub::accepted_features("ext2", code), GetParam().tests ? std::optional(ext_of_2_06) : std::nullopt);
}
INSTANTIATE_TEST_SUITE_P(X86, Forms,
                         testing::Values(Form{"TestEax", {0x8B, 0x43, 0x60, 0xA9}, true}, Form{"AndEax", {0x25}, true},
                                         Form{"TestMemoryNear", {0xF7, 0x43, 0x60}, true},
                                         Form{"TestMemoryFar", {0xF7, 0x83, 0x60, 0x01, 0, 0}, true},
                                         Form{"TestRegister", {0xF7, 0xC2}, true},
                                         Form{"AndRegister", {0x81, 0xE2}, true},
                                         Form{"OrRegister", {0x81, 0xCA}, false}, Form{"Call", {0xE8}, false},
                                         Form{"MoveEax", {0xB8}, false}, Form{"Negate", {0xF7, 0xDA}, false}),
                         support::by_name);

TEST(AcceptedFeatures, OneMaskIsTheDriversTwoAreNone) {
    const auto once = with_constant({0xA9}, ~ext_of_2_06);
    Bytes twice = once;
    twice.insert(twice.end(), once.begin(), once.end());
    EXPECT_EQ(grub::accepted_features("ext2", twice), ext_of_2_06);
    const auto other = with_constant({0xA9}, ~(ext_of_2_06 | large_dir));
    twice.insert(twice.end(), other.begin(), other.end());
    EXPECT_EQ(grub::accepted_features("ext2", twice), std::nullopt);
    // Not one that lacks what all take, or takes what none takes.
    EXPECT_EQ(grub::accepted_features("ext2", with_constant({0xA9}, ~(ext_of_2_06 & ~0x40U))), std::nullopt);
    EXPECT_EQ(grub::accepted_features("ext2", with_constant({0xA9}, ~(ext_of_2_06 | 0x8000U))), std::nullopt);
    EXPECT_EQ(grub::accepted_features("xfs", with_constant({0xA9}, ~0x1FU, true)), 0x1FU);
    EXPECT_EQ(grub::accepted_features("xfs", with_constant({0xA9}, ~0x1FU)), std::nullopt);
    EXPECT_EQ(grub::accepted_features("fat", once), std::nullopt);
    EXPECT_EQ(grub::accepted_features("ext2", Bytes{0xA9, 1, 2}), std::nullopt);
}

TEST(AcceptedFeatures, OfThePackagedDrivers) {
    int seen = 0;
    for (const char* platform : {"i386-pc", "x86_64-efi"})
        for (const auto& [driver, some] : {std::pair{"ext2", 0x2C6U}, std::pair{"xfs", 0x1U}}) {
            const Bytes code = support::file_bytes(fmt::format("/usr/lib/grub/{}/{}.mod", platform, driver));
            if (code.empty()) continue;
            const auto accepted = grub::accepted_features(driver, code);
            ASSERT_TRUE(accepted) << platform << " " << driver;
            EXPECT_EQ(*accepted & some, some) << platform << " " << driver;
            ++seen;
        }
    if (seen == 0) GTEST_SKIP() << "no packaged GRUB is installed here";
}

/// The front desk with large directories, and a GRUB whose ext2 driver takes these features.
Bytes desk(std::optional<std::uint32_t> accepted, std::uint32_t features) {
    auto out = demo::front_desk();
    out.ext.extra_incompat = features;
    forge::CoreOptions core;
    if (accepted) core.code["ext2"] = with_constant({0x8B, 0x43, 0x60, 0xA9}, ~*accepted);
    out.disk.gap = forge::make_grub_core(core);
    return out.build();
}

TEST(GrubFeatures, ADriverThatDoesNotTakeOneRefusesItsOwnFiles) {
    const Checked checked(desk(ext_of_2_06, large_dir));
    const auto& system = checked.system();
    EXPECT_EQ(checked.stage(), "loader");
    ASSERT_TRUE(checked.has(Code::GrubPrefixFileSystem));
    EXPECT_EQ(system.at(Stage::Loader).text,
              "GRUB cannot read the file system in d1p1 that holds its files: GRUB's driver does not take ext4 with "
              "large_dir");
    EXPECT_EQ(system.symptom, "error: unknown filesystem.\nEntering rescue mode...\ngrub rescue>");
    EXPECT_EQ(system.at(Stage::BootCode).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Configuration).state, State::NotReached);
    ASSERT_FALSE(system.at(Stage::Loader).evidence.empty());
    EXPECT_EQ(system.at(Stage::Loader).evidence[0].place, "d1p1:/boot/grub/i386-pc/normal.mod");
    EXPECT_EQ(system.at(Stage::Loader).evidence[0].found, "unknown filesystem.");
}

TEST(GrubFeatures, ALaterDriverTakesIt) {
    EXPECT_EQ(Checked(desk(ext_of_2_06 | large_dir, large_dir)).stage(), "yes");
    // Where the code does not tell, a feature that some GRUB takes is no reason.
    EXPECT_EQ(Checked(desk(std::nullopt, large_dir)).stage(), "yes");
    EXPECT_EQ(Checked(desk(std::nullopt, 0x8000)).stage(), "loader");
}

VolumeInfo info_of(Format format, std::uint32_t bits) {
    VolumeInfo out;
    out.format = format;
    out.incompatible = bits;
    return out;
}

struct Kernel {
    const char* name;
    const char* release;
    Format format;
    std::uint32_t bits;
    std::optional<State> state;
    const char* text;
};
class Kernels : public testing::TestWithParam<Kernel> {};
TEST_P(Kernels, KnowTheFeaturesOfTheirDay) {
    const auto& p = GetParam();
    const auto claim = judge_kernel_features(info_of(p.format, p.bits), "d1p2", p.release);
    ASSERT_EQ(claim.has_value(), p.state.has_value());
    if (!claim) return;
    EXPECT_EQ(claim->state, *p.state);
    EXPECT_EQ(claim->text, p.text);
    ASSERT_FALSE(claim->evidence.empty());
    EXPECT_EQ(claim->evidence[0].place, "d1p2");
    EXPECT_EQ(claim->findings.size(), *p.state == State::Breaks ? 1U : 0U);
    for (const auto& finding : claim->findings) {
        EXPECT_EQ(finding.code, Code::RootFeatureTooNew);
        support::expect_screen_of_table(finding);
    }
}
INSTANTIATE_TEST_SUITE_P(
    All, Kernels,
    testing::Values(
        Kernel{"LargeDirBefore", "4.12.14-almhof", Format::Ext4, 0x42C2, State::Breaks,
               "d1p2 is ext4 with large_dir, which Linux 4.12 does not know yet"},
        Kernel{"LargeDirSince", "4.13.0-almhof", Format::Ext4, 0x42C2, {}, ""},
        Kernel{"CaseFolding", "5.1.21", Format::Ext4, 0x202C2, State::Breaks,
               "d1p2 is ext4 with casefold, which Linux 5.1 does not know yet"},
        Kernel{"Never", "6.12.1", Format::Ext4, 0x1002, {}, ""},
        Kernel{"BigTimes", "5.9.0-almhof", Format::Xfs, 0x0B, State::Breaks,
               "d1p2 is xfs with bigtime, which Linux 5.9 does not know yet"},
        Kernel{"BigTimesSince", "5.10.0-almhof", Format::Xfs, 0x0B, {}, ""},
        Kernel{"TwoOfThem", "6.1.0-50-amd64", Format::Xfs, 0xEB, State::Breaks,
               "d1p2 is xfs with exchange, parent, which Linux 6.1 does not know yet"},
        Kernel{"AVendorsOwn", "4.18.0-553.el8_10.x86_64", Format::Xfs, 0x0B, State::Doubtful,
               "d1p2 is xfs with bigtime, which Linux 4.18 does not know yet; but 4.18.0-553.el8_10.x86_64 may carry "
               "a later driver"},
        Kernel{"OfTheFuture", "6.1.0", Format::Xfs, 0x80000000U, {}, ""},
        Kernel{"ThreeCopies", "5.4.0-150-generic", Format::Btrfs, 0x941, State::Breaks,
               "d1p2 is btrfs with raid1c34, which Linux 5.4 does not know yet"},
        Kernel{"ThreeCopiesSince", "5.5.0", Format::Btrfs, 0x941, {}, ""},
        Kernel{"NoRelease", "", Format::Btrfs, 0x941, {}, ""},
        Kernel{"NoNumber", "almhof", Format::Btrfs, 0x941, {}, ""}, Kernel{"Half", "5.", Format::Btrfs, 0x941, {}, ""},
        Kernel{"Fat", "2.6.0", Format::Fat32, 0xFFF, {}, ""}),
    support::by_name);

TEST(KernelFeatures, ARootOfALaterDay) {
    auto d = demo::front_desk();
    d.ext.extra_incompat = large_dir;
    d.root.file(std::string("/boot/vmlinuz-") + demo::release, forge::make_kernel({"4.9.0-almhof"}));
    // Its drivers are in the RAM disk, under its own name.
    const auto ramdisk = d.ramdisk;
    for (const auto& [path, node] : ramdisk.nodes())
        if (const auto at = path.find(demo::release); at != std::string::npos && node.kind == forge::Node::Kind::File) {
            auto moved = path;
            d.ramdisk.file(moved.replace(at, std::string(demo::release).size(), "4.9.0-almhof"), node.content);
        }
    const Checked checked(d.build());
    const auto& system = checked.system();
    EXPECT_EQ(checked.stage(), "root");
    ASSERT_TRUE(checked.has(Code::RootFeatureTooNew));
    EXPECT_EQ(system.at(Stage::Root).text, "d1p1 is ext4 with large_dir, which Linux 4.9 does not know yet");
    EXPECT_EQ(system.symptom,
              "EXT4-fs (…): Couldn't mount because of unsupported optional features (4000)\n"
              "mount: mounting /dev/… on /root failed: Invalid argument\n"
              "Failed to mount /dev/… as root file system.");
    EXPECT_EQ(system.at(Stage::Ramdisk).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Init).state, State::NotReached);
}

}  // namespace
