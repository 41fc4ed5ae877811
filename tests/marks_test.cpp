// SPDX-License-Identifier: MIT
// What is recognised by its mark alone: volumes made by the systems' own tools, and what the system's own probe says.
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::shell;

namespace {

struct Made {
    const char* name;
    const char* command;  ///< makes the file "volume" in the folder it runs in
    std::size_t mib;
    Format format;
    const char* text;
    Content content;
    const char* label;
};
void PrintTo(const Made& made, std::ostream* out) { *out << made.name; }

std::string line_of(const std::string& command) {
    auto said = shell(command).out;
    while (!said.empty() && said.back() == '\n') said.pop_back();
    return said;
}

class Marks : public testing::TestWithParam<Made> {};
TEST_P(Marks, AreNamedAsTheSystemNamesThem) {
    const support::Folder folder;
    const auto path = folder.write("volume", Bytes(GetParam().mib << 20U));
    const auto run = shell("cd " + folder.file("") + " && PATH=$PATH:/sbin:/usr/sbin && " + GetParam().command);
    ASSERT_EQ(run.status, 0) << run.out;
    const Bytes bytes = support::file_bytes(path);
    const auto info = recognise_volume(*support::source_of(bytes, "d1p1"));
    EXPECT_EQ(info.format, GetParam().format);
    EXPECT_EQ(info.name(), GetParam().text);
    EXPECT_EQ(info.content(), GetParam().content);
    EXPECT_EQ(info.label, GetParam().label);
    EXPECT_EQ(info.uuid, line_of("/sbin/blkid -p -s UUID -o value " + path));
    const auto machine = support::machine_of(bytes);
    const auto& volume = *machine.disks[0].volumes.at(0);
    EXPECT_EQ(volume.files(Observer::Linux), nullptr);
    EXPECT_TRUE(volume.unread());
    EXPECT_EQ(machine.hiding_places().empty(), GetParam().content == Content::Files);
}
INSTANTIATE_TEST_SUITE_P(
    All, Marks,
    testing::Values(Made{"Nilfs", "mkfs.nilfs2 -q -L cellar volume", 160, Format::Nilfs, "nilfs2", Content::Files,
                         "cellar"},
                    Made{"Jfs", "mkfs.jfs -q -L cellar volume", 32, Format::Jfs, "jfs", Content::Files, "cellar"},
                    Made{"Reiserfs", "mkfs.reiserfs -q -f -l cellar volume", 64, Format::Reiserfs, "reiserfs",
                         Content::Files, "cellar"},
                    Made{"Erofs", "mkdir in && echo wine > in/list && rm volume && mkfs.erofs volume in", 1,
                         Format::Erofs, "erofs", Content::Files, ""},
                    Made{"Bcache", "make-bcache -B volume", 32, Format::Bcache, "bcache member", Content::Member, ""},
                    Made{"Verity", "mv volume data && truncate -s 8M volume && veritysetup format data volume", 8,
                         Format::Verity, "dm-verity hashes", Content::Member, ""}),
    support::by_name);

TEST(Marks, OneByteLessIsNone) {
    const support::Folder folder;
    const auto path = folder.write("volume", Bytes(160U << 20U));
    ASSERT_EQ(shell("/sbin/mkfs.nilfs2 -q " + path).status, 0);
    Bytes bytes = support::file_bytes(path);
    bytes.resize(1U << 20U);  // without the second superblock, at the end
    EXPECT_EQ(recognise_volume(*support::source_of(bytes)).format, Format::Nilfs);
    bytes[1024 + 60] ^= 1U;  // under the checksum
    EXPECT_EQ(recognise_volume(*support::source_of(bytes)).format, Format::None);
}

/// Written by hand, from the formats' descriptions.
TEST(Marks, WrittenByHand) {
    const auto recognised = [](std::size_t at, std::string_view mark) {
        Bytes bytes(1U << 20U);
        std::copy(mark.begin(), mark.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at));
        const auto whole = recognise_volume(*support::source_of(bytes)).format;
        bytes[at + mark.size() - 1] ^= 1U;
        EXPECT_EQ(recognise_volume(*support::source_of(bytes)).format, Format::None) << mark;
        return whole;
    };
    using namespace std::string_view_literals;
    EXPECT_EQ(recognised(0x4000, "\1\1\0\0\0\0\0\0\0\0\0\1"sv), Format::Zfs);
    EXPECT_EQ(recognised(3, "ReFS\0\0\0\0\0\0\0\0\0FSRS"sv), Format::Refs);
    EXPECT_EQ(recognised(0, "integrt\0"sv), Format::Integrity);
    EXPECT_EQ(recognised(1024, "H+\0\4"sv), Format::Hfsplus);
    EXPECT_EQ(recognised(32, "NXSB"sv), Format::Apfs);
    EXPECT_EQ(recognised(4096 + 24, "\xC6\x85\x73\xF6\x66\xCE\x90\xA9\xD9\x6A\x60\xCF\x80\x3D\xF7\xEF"sv),
              Format::Bcachefs);
}

TEST(Marks, MembersOfABiosRaid) {
    const auto told = [](std::size_t before_end, std::string_view mark) {
        auto bytes = demo::front_desk().build();
        std::copy(mark.begin(), mark.end(), bytes.end() - static_cast<std::ptrdiff_t>(before_end));
        const auto machine = support::machine_of(bytes);
        return bios_raid(machine.disks[0]);
    };
    const auto intel = told(1024, "Intel Raid ISM Cfg Sig. 1.3.00");
    ASSERT_TRUE(intel);
    EXPECT_EQ(intel->code, Code::DiskBiosRaid);
    EXPECT_EQ(intel->text,
              "d1 is a member of a BIOS RAID (Intel): its controller may show something else than this disk");
    EXPECT_EQ(intel->evidence.at(0).range->length, 24U);
    EXPECT_TRUE(told(512, "\xDE\x11\xDE\x11"));
    EXPECT_FALSE(told(512, "\xDE\x11\xDE\x12"));
    EXPECT_FALSE(told(1536, "Intel Raid ISM Cfg Sig. "));
}

}  // namespace
