// SPDX-License-Identifier: MIT
// Journals that the running kernel left behind, replayed here and by the system's own tool.
#include <algorithm>

#include <fmt/format.h>

#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

/// A file system copied while it was mounted, as a machine leaves it whose power fails: files that only the journal
/// has, and deleted directories whose blocks hold something else now. Empty: that cannot be done here.
std::string left_behind(const support::Folder& folder, const std::string& options) {
    const std::string image = folder.file("volume.img");
    const std::string mount = folder.file("mount");
    const std::string copy = folder.file("left.img");
    std::filesystem::create_directories(mount);
    // `sync` with names writes the log only; what it says stays out of its place until later.
    const auto steps = fmt::format(
        "set -e; truncate -s 64M {0}; mkfs.ext4 -q -F -E lazy_itable_init=0,lazy_journal_init=0 {2} {0}; "
        "mount -o loop {0} {1}; cd {1}; mkdir many; for i in $(seq 400); do echo $i >many/a-room-of-the-inn-$i; done; "
        "sync many; rm -r many; sync .; mkdir etc; echo cellar >etc/hostname; head -c 3000000 /dev/urandom >noise; "
        "sync etc/hostname noise etc .; cp {0} {3}; cd /; umount {1}",
        image, mount, options, copy);
    const auto ran = support::shell(steps);
    if (ran.status == 0) return copy;
    std::cout << ran.out;
    support::shell("umount " + mount);
    return {};
}

struct Kind {
    const char* name;
    const char* options;
};
class ExtJournal : public testing::TestWithParam<Kind> {};
TEST_P(ExtJournal, IsReplayedAsTheSystemsOwnToolDoes) {
    const support::Folder folder;
    const auto path = left_behind(folder, GetParam().options);
    if (path.empty()) GTEST_SKIP() << "no ext4 can be made and mounted here";
    const auto checked = folder.file("replayed.img");
    ASSERT_EQ(support::shell(fmt::format("cp {0} {1} && e2fsck -y -E journal_only {1}", path, checked)).status & ~1, 0);
    const auto left = open_image(path, 1);
    const auto fs = open_file_system(*left, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    EXPECT_TRUE((*fs)->mount_obstacles("").empty());
    EXPECT_EQ(read_text_file(**fs, "/etc/hostname").value_or("?"), "cellar\n");
    EXPECT_FALSE(resolve(**fs, "/many"));
    const auto remarks = (*fs)->remarks();
    EXPECT_TRUE(std::ranges::any_of(remarks, [](const Finding& f) { return f.code == Code::ExtJournalDirty; }));
    // Loaders do not replay.
    const auto loader = open_file_system(*left, Reader::Loader);
    ASSERT_TRUE(loader);
    EXPECT_FALSE(resolve(**loader, "/etc/hostname"));
    // The same files as after the tool's replay.
    const auto replayed = open_file_system(*open_image(checked, 1), Reader::Loader);
    ASSERT_TRUE(replayed);
    for (const char* name : {"/noise", "/etc/hostname"}) {
        const auto ours = (*fs)->open(resolve(**fs, name)->file.id, name);
        const auto its = (*replayed)->open(resolve(**replayed, name)->file.id, name);
        ASSERT_TRUE(ours && its);
        ASSERT_EQ((*ours)->size(), (*its)->size());
        EXPECT_EQ(*(*ours)->bytes(0, (*ours)->size()), *(*its)->bytes(0, (*its)->size())) << name;
    }
    std::vector<std::string> names[2];
    int which = 0;
    for (const auto& one : {*fs, *replayed}) {
        const auto listed = one->list(one->root());
        ASSERT_TRUE(listed);
        for (const auto& entry : *listed) names[which].push_back(fmt::format("{} {}", entry.name, entry.id));
        ++which;
    }
    EXPECT_EQ(names[0], names[1]);
}
INSTANTIATE_TEST_SUITE_P(Kinds, ExtJournal,
                         testing::Values(Kind{"Usual", ""}, Kind{"NoChecksums", "-O ^metadata_csum,^64bit"},
                                         Kind{"Narrow", "-O ^64bit"}, Kind{"SmallBlocks", "-b 1024"},
                                         Kind{"Seed", "-O metadata_csum_seed"}),
                         support::by_name);

TEST(ExtJournal, DamageKeepsTheKernelFromMountingWhereItIsToldHere) {
    const support::Folder folder;
    const auto path = left_behind(folder, "");
    if (path.empty()) GTEST_SKIP() << "no ext4 can be made and mounted here";
    const auto raw = open_file_system(*open_image(path, 1), Reader::Loader);
    const auto journal = (*raw)->open(8, "journal");
    ASSERT_TRUE(journal);
    const auto number = [&](std::uint64_t at) {
        const auto b = *(*journal)->bytes(at, 4);
        return std::uint32_t{b[0]} << 24U | std::uint32_t{b[1]} << 16U | std::uint32_t{b[2]} << 8U | b[3];
    };
    const std::uint64_t start = number(28);
    ASSERT_NE(start, 0U);
    // One bit in each of the first blocks of the log: descriptors, what they announce, revocations, commits.
    int refused = 0;
    for (std::uint64_t block = start; block < start + 24; ++block) {
        const auto where = (*journal)->locate(block * 4096 + 20, 1);
        ASSERT_FALSE(where.empty());
        const auto damaged = folder.file("damaged.img");
        ASSERT_EQ(support::shell(fmt::format("cp {} {}", path, damaged)).status, 0);
        {
            std::fstream file(damaged, std::ios::binary | std::ios::in | std::ios::out);
            file.seekg(static_cast<std::streamoff>(where[0].offset));
            const int byte = file.get();
            file.seekp(static_cast<std::streamoff>(where[0].offset));
            file.put(static_cast<char>(byte ^ 4));
        }
        const auto fs = open_file_system(*open_image(damaged, 1), Reader::Kernel);
        const bool here = fs && (*fs)->mount_obstacles("").empty();
        if (fs && !here) {
            EXPECT_EQ((*fs)->mount_obstacles("").front().code, Code::ExtJournalBad);
            EXPECT_NE((*fs)->mount_obstacles("").front().text.find("of the journal fails its checksum"),
                      std::string::npos);
        }
        const bool kernel =
            support::shell(fmt::format("mount -o loop {} {}", damaged, folder.file("mount"))).status == 0;
        if (kernel) support::shell("umount " + folder.file("mount"));
        EXPECT_EQ(here, kernel) << "block " << block << " of the log, type " << number(block * 4096 + 4);
        refused += here ? 0 : 1;
    }
    EXPECT_GT(refused, 0);
}

}  // namespace
