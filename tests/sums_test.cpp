// SPDX-License-Identifier: MIT
// The fuzzer's mending of checksums: sums that others wrote are the ones that it would write, and what was broken by a
// change is read again.
#include <fmt/format.h>

#include "../fuzz/sums.hpp"
#include "forge/board.hpp"
#include "forge/exfat.hpp"
#include "forge/servers.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using fuzz::Sums;
using support::Bytes;

namespace {

/// The first byte at which two differ; none: they are the same.
std::optional<std::size_t> difference(const Bytes& one, const Bytes& other) {
    const auto [a, b] = std::ranges::mismatch(one, other);
    if (a == one.end() && b == other.end()) return std::nullopt;
    return static_cast<std::size_t>(a - one.begin());
}

struct Sound {
    const char* name;
    Sums kind;
    std::function<Bytes()> build;
    std::vector<std::size_t> sums;  ///< a byte of each sum
    std::uint8_t also = 0;
};
void PrintTo(const Sound& sound, std::ostream* out) { *out << sound.name; }

class SumsOf : public testing::TestWithParam<Sound> {};

TEST_P(SumsOf, SoundBytesStay) {
    const auto sound = GetParam().build();
    auto mended = sound;
    fuzz::mend(GetParam().kind, mended, GetParam().also);
    EXPECT_EQ(difference(mended, sound), std::nullopt);
}

TEST_P(SumsOf, AWrongSumBecomesRight) {
    const auto sound = GetParam().build();
    for (const auto at : GetParam().sums) {
        auto broken = sound;
        ASSERT_LT(at, broken.size());
        broken[at] ^= 0x5AU;
        fuzz::mend(GetParam().kind, broken, GetParam().also);
        EXPECT_EQ(difference(broken, sound), std::nullopt) << at;
    }
}

/// What a maker of file systems writes; nothing where it is not installed.
Bytes made_by(const std::string& command, std::size_t size) {
    const support::Folder folder;
    const auto image = folder.write("image", Bytes(size));
    std::filesystem::create_directories(folder.file("files/etc"));
    std::ofstream(folder.file("files/etc/hostname")) << "almhof\n";
    const auto ran = support::shell(
        fmt::format(fmt::runtime(command), fmt::arg("image", image), fmt::arg("files", folder.file("files"))));
    auto bytes = ran.status == 0 ? support::file_bytes(image) : Bytes{};
    bytes.resize(std::min<std::size_t>(bytes.size(), 6U << 20U));
    return bytes;
}

forge::Tree few_files() {
    forge::Tree tree;
    tree.file("/etc/hostname", "almhof\n").file("/b", forge::noise(9000, 1));
    return tree;
}

INSTANTIATE_TEST_SUITE_P(
    All, SumsOf,
    testing::Values(
        Sound{"Gpt", Sums::Disk, [] { return demo::kiosk().build(); }, {512 + 16, 512 + 88}},
        Sound{"Disc", Sums::Disk, [] { return demo::help_disc().build().bytes; }, {}},
        Sound{"Ext4", Sums::Volume, [] { return forge::make_ext(few_files(), {.size = 600U << 10U}); }, {1024 + 1020}},
        Sound{"Xfs", Sums::Volume, [] { return forge::make_xfs(few_files(), {}); }, {224, 512 + 216, 1024 + 312}},
        Sound{"Exfat", Sums::Volume, [] { return forge::make_exfat(few_files()); }, {11 * 512, 11 * 512 + 511}},
        Sound{"Ubi",
              Sums::Volume,
              [] {
                  return forge::make_ubi({{"root", forge::noise(3000, 1)}});
              },
              {60, 63}},
        Sound{"Lvm",
              Sums::Layers,
              [] {
                  auto member = forge::make_lvm("inn", {{"root", Bytes(1U << 16U)}});
                  member.resize(member.size() / 512 * 512);
                  auto three = member;
                  three.resize(3 * member.size());
                  return three;
              },
              {512 + 16}},
        Sound{"Mirror",
              Sums::Layers,
              [] {
                  auto member = forge::make_mirror(Bytes(1U << 16U), 0, {});
                  const auto size = member.size();
                  member.resize(3 * size);
                  return member;
              },
              {4096 + 216}},
        Sound{"Luks",
              Sums::Layers,
              [] {
                  auto member = forge::make_luks(Bytes(4096), "edelweiss", {.version = 2});
                  const auto size = member.size();
                  member.resize(3 * size);
                  return member;
              },
              {448, 448 + 31}},
        Sound{"Hive", Sums::Hive, [] { return forge::make_hive(demo::office_pc().system_hive); }, {508}},
        Sound{"LegacyImage",
              Sums::Board,
              [] { return forge::make_legacy_image(forge::noise(500, 3), {.name = "kernel"}); },
              {4, 24}},
        Sound{"Environment",
              Sums::Board,
              [] {
                  return forge::make_uboot_environment({{"bootcmd", "run a"}}, 4096);
              },
              {0}},
        Sound{"FirstProgram", Sums::Board, [] { return forge::make_egon(8192); }, {12}}),
    support::by_name);

/// The systems' own makers as the oracle: every sum of a whole volume.
TEST(SumsByOthers, AreTheSame) {
    struct Maker {
        const char* command;
        std::size_t size;
        std::vector<std::size_t> sums;
    };
    std::size_t made = 0;
    for (const auto& maker :
         std::vector<Maker>{{"mkfs.ext4 -q -F -b 1024 -d {files} {image}", 4U << 20U, {1024 + 1020}},
                            {"mkfs.ext4 -q -F -b 4096 -d {files} {image}", 8U << 20U, {1024 + 1020}},
                            {"mkfs.xfs -q -f {image}", 320U << 20U, {224, 512 + 216, 1024 + 312, 1536 + 32}},
                            {"mkfs.btrfs -q -f --mixed -n 4096 -s 4096 --rootdir {files} {image}", 64U << 20U, {65536}},
                            {"mkfs.exfat -q {image}", 8U << 20U, {11 * 512}},
                            {"mkfs.jffs2 -r {files} -o {image} -e 64KiB", 1, {8}}}) {
        const auto sound = made_by(maker.command, maker.size);
        if (sound.empty()) continue;
        ++made;
        auto mended = sound;
        fuzz::mend(Sums::Volume, mended);
        EXPECT_EQ(difference(mended, sound), std::nullopt) << maker.command;
        for (const auto at : maker.sums) {
            mended[at] ^= 1U;
            fuzz::mend(Sums::Volume, mended);
            EXPECT_EQ(difference(mended, sound), std::nullopt) << maker.command << " at " << at;
        }
    }
    if (made == 0) GTEST_SKIP() << "no makers of file systems here";
}

/// A change of what a sum covers ends at the sum; with it mended the decoder goes on.
TEST(SumsMended, LetADecoderGoOn) {
    auto volume = forge::make_xfs(few_files(), {});
    const auto obstacles = [](Bytes bytes) -> std::string {
        const auto fs = open_file_system(support::source_of(std::move(bytes)), Reader::Kernel);
        if (!fs) return fs.error().text();
        const auto all = (*fs)->mount_obstacles("");
        return all.empty() ? (*fs)->info().label : all.front().text;
    };
    volume[108] = 'A';  // the label
    EXPECT_NE(obstacles(volume), "A");
    fuzz::mend(Sums::Volume, volume);
    EXPECT_EQ(obstacles(volume), "A");
}

}  // namespace
