// SPDX-License-Identifier: MIT
// Volumes that the systems' own tools make of one tree, read in every way that there is to read them.
#include <fmt/format.h>
#include <unistd.h>
#include <fstream>

#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

/// A maker: its program, the volume's size (MiB; 0: the maker's own), the command, and what the format lacks.
struct Maker {
    std::string name, program;
    std::size_t mib;
    std::string command;
    bool links = true, modes = true, cases = true;
    std::string format;
};

const std::string fat_copy = " && mcopy -s -i image files/* ::/";
const Maker makers[] = {
    {"Ext4", "mke2fs", 24, "mke2fs -q -F -t ext4 -b 4096 -d files image", true, true, true, "ext4"},
    {"Ext4Small", "mke2fs", 24, "mke2fs -q -F -t ext4 -b 1024 -O ^64bit,inline_data -I 256 -d files image", true, true,
     true, "ext4"},
    {"Ext3", "mke2fs", 24, "mke2fs -q -F -t ext3 -b 2048 -d files image", true, true, true, "ext3"},
    {"Ext2", "mke2fs", 24, "mke2fs -q -F -t ext2 -b 1024 -I 128 -d files image", true, true, true, "ext2"},
    {"Fat12", "mcopy", 4, "mkfs.vfat -F 12 -s 8 image" + fat_copy, false, false, false, "fat12"},
    {"Fat16", "mcopy", 24, "mkfs.vfat -F 16 image" + fat_copy, false, false, false, "fat16"},
    {"Fat32", "mcopy", 48, "mkfs.vfat -F 32 -s 1 image" + fat_copy, false, false, false, "fat32"},
    {"Squashfs", "mksquashfs", 0, "mksquashfs files image -quiet -noappend -b 16384", true, true, true, "squashfs"},
    {"SquashfsZstd", "mksquashfs", 0, "mksquashfs files image -quiet -noappend -comp zstd -no-fragments", true, true,
     true, "squashfs"},
    {"SquashfsPlain", "mksquashfs", 0, "mksquashfs files image -quiet -noappend -noI -noD -noF -noX", true, true, true,
     "squashfs"},
    {"Iso9660", "xorriso", 0, "xorriso -as mkisofs -quiet -R -V INN -o image files", true, true, true, "iso9660"},
    {"Joliet", "xorriso", 0, "xorriso -as mkisofs -quiet -J -joliet-long -V INN -o image files", false, false, false,
     "iso9660"},
    {"Btrfs", "mkfs.btrfs", 128, "mkfs.btrfs -q -f --rootdir files image", true, true, true, "btrfs"},
    {"BtrfsMixed", "mkfs.btrfs", 64, "mkfs.btrfs -q -f --mixed -n 4096 -s 4096 --rootdir files image", true, true, true,
     "btrfs"},
    {"Jffs2", "mkfs.jffs2", 0, "mkfs.jffs2 -r files -o image -e 64KiB", true, true, true, "jffs2"},
};

/// The tree: sizes at the edges of blocks, a hole, many names, long and foreign ones, links.
class Tree {
public:
    Tree(std::string folder, const Maker& maker) : folder_(std::move(folder)) {
        std::filesystem::create_directories(folder_ + "/deep/er/and/deeper");
        for (const std::size_t size : {0U, 1U, 59U, 60U, 61U, 511U, 512U, 513U, 4095U, 4096U, 4097U, 16384U, 70001U})
            file(fmt::format("size-{}", size), forge::noise(size, static_cast<std::uint32_t>(size) + 1));
        file("large", forge::noise(900'000, 3));
        Bytes even(300'000, 'r');
        file("even", even);
        file("deep/er/and/deeper/end", forge::to_bytes("here it ends\n"));
        for (int i = 0; i < 200; ++i) file(fmt::format("deep/room-{:03}", i), forge::to_bytes(fmt::format("{}\n", i)));
        file("a name with blanks, and so long that it goes over several entries.text", forge::to_bytes("long\n"));
        file("Gästehaus", forge::to_bytes("guests\n"));
        if (maker.links) {
            Bytes sparse(500'000);
            // Not a hole at its end: one maker gives such a file the size of what it stored.
            sparse[400'000] = sparse.back() = 7;
            file("holes", sparse);
            link("short", "deep/room-001");
            link("long", "./" + std::string(150, 'x') + "/../size-1");
        }
        if (maker.modes) ::chmod((folder_ + "/size-1").c_str(), 0755);
    }
    std::map<std::string, Bytes> files;
    std::map<std::string, std::string> links;

private:
    void file(const std::string& path, const Bytes& content) {
        std::ofstream(folder_ + "/" + path, std::ios::binary)
            .write(reinterpret_cast<const char*>(content.data()), static_cast<std::streamsize>(content.size()));
        files["/" + path] = content;
    }
    void link(const std::string& path, const std::string& target) {
        EXPECT_EQ(::symlink(target.c_str(), (folder_ + "/" + path).c_str()), 0);
        links["/" + path] = target;
    }
    std::string folder_;
};

class MadeVolumes : public testing::TestWithParam<Maker> {
protected:
    void SetUp() override {
        const auto& maker = GetParam();
        if (support::shell("command -v " + maker.program).status != 0) GTEST_SKIP() << maker.program << " is not here";
        tree_ = std::make_unique<Tree>(folder_.file("files"), maker);
        if (maker.mib != 0) folder_.write("image", Bytes(maker.mib << 20U));
        const auto made = support::shell("cd " + folder_.file("") + " && " + maker.command);
        if (made.status != 0) GTEST_SKIP() << made.out;
        volume_ = support::source_of(support::file_bytes(folder_.file("image")), "d1p1");
        auto opened = open_file_system(volume_, Reader::Kernel);
        ASSERT_TRUE(opened) << opened.error().text();
        fs_ = *opened;
    }
    [[nodiscard]] std::vector<std::string> names(const std::string& path) const {
        std::vector<std::string> out;
        const auto found = resolve(*fs_, path);
        const auto all = found ? fs_->list(found->file.id) : fail(ErrorKind::NotFound, path);
        EXPECT_TRUE(all) << path;
        if (all)
            for (const auto& one : *all)
                if (one.name != "." && one.name != ".." && one.name != "lost+found") out.push_back(one.name);
        std::ranges::sort(out);
        return out;
    }

    support::Folder folder_;
    std::unique_ptr<Tree> tree_;
    Source volume_;
    std::shared_ptr<const FileSystem> fs_;
};

TEST_P(MadeVolumes, FilesAreReadWholeInPiecesAndByTheirExtents) {
    EXPECT_EQ(fs_->info().name(), GetParam().format);
    for (const auto& [path, content] : tree_->files) {
        const auto found = resolve(*fs_, path);
        ASSERT_TRUE(found) << path;
        EXPECT_EQ(found->file.size, content.size()) << path;
        const auto source = fs_->open(found->file.id, "d1p1:" + path);
        ASSERT_TRUE(source) << path << ": " << source.error().text();
        EXPECT_EQ((*source)->size(), content.size()) << path;
        EXPECT_EQ((*source)->place(), "d1p1:" + path);
        const auto whole = (*source)->bytes(0, content.size());
        ASSERT_TRUE(whole) << path << ": " << whole.error().text();
        EXPECT_EQ(*whole == content, true) << path;
        // Pieces that begin and end anywhere, across blocks and holes; the last byte; none; and what there is not.
        for (const std::size_t at : {std::size_t{0}, content.size() / 3, content.size() / 2, content.size() - 1})
            for (const std::size_t length : {1U, 3U, 511U, 4097U, 131073U}) {
                if (at >= content.size() || length > content.size() - at) continue;
                const auto piece = (*source)->bytes(at, length);
                ASSERT_TRUE(piece) << path << " " << at << " " << length;
                EXPECT_TRUE(std::equal(piece->begin(), piece->end(), content.begin() + static_cast<std::ptrdiff_t>(at)))
                    << path << " " << at << " " << length;
            }
        EXPECT_TRUE((*source)->bytes(content.size(), 0)) << path;
        const auto beyond = (*source)->bytes(content.size(), 1);
        ASSERT_FALSE(beyond) << path;
        EXPECT_EQ(beyond.error().kind, ErrorKind::OutOfRange) << path;
        // Where the format stores bytes as they are, they lie where the extents say.
        const auto extents = fs_->extents(found->file.id);
        if (!extents) continue;
        for (const auto& one : *extents) {
            ASSERT_LE(one.base_offset, volume_->size()) << path;
            const std::size_t from = static_cast<std::size_t>(one.offset);
            if (from >= content.size()) continue;
            const auto length = std::min<std::size_t>(static_cast<std::size_t>(one.length), content.size() - from);
            const auto raw = volume_->bytes(one.base_offset, length);
            ASSERT_TRUE(raw) << path;
            EXPECT_TRUE(std::equal(raw->begin(), raw->end(), content.begin() + static_cast<std::ptrdiff_t>(from)))
                << path << " extent at " << one.offset;
        }
    }
}

TEST_P(MadeVolumes, NamesAreThoseOfTheTree) {
    std::map<std::string, std::set<std::string>> expected;
    const auto note = [&](const std::string& path) {
        for (std::size_t at = path.find('/'); at != std::string::npos; at = path.find('/', at + 1)) {
            const auto end = path.find('/', at + 1);
            expected[at == 0 ? "/" : path.substr(0, at)].insert(path.substr(at + 1, end - at - 1));
        }
    };
    for (const auto& [path, content] : tree_->files) note(path);
    for (const auto& [path, target] : tree_->links) note(path);
    for (const auto& [folder, all] : expected)
        EXPECT_EQ(names(folder), std::vector<std::string>(all.begin(), all.end())) << folder;
    // With Joliet it is the observer's own matter.
    if (GetParam().name != "Joliet") EXPECT_EQ(fs_->ignores_case(), !GetParam().cases);
    EXPECT_EQ(resolve(*fs_, "/DEEP/ROOM-001").has_value(), fs_->ignores_case());
    const std::pair<const char*, ErrorKind> wrong[] = {{"/nowhere", ErrorKind::NotFound},
                                                       {"/deep/room-200", ErrorKind::NotFound},
                                                       {"/deep/room-00", ErrorKind::NotFound},
                                                       {"/deep/room-0011", ErrorKind::NotFound}};
    for (const auto& [path, kind] : wrong) {
        const auto found = resolve(*fs_, path);
        ASSERT_FALSE(found) << path;
        EXPECT_EQ(found.error().kind, kind) << path;
    }
    // A file is no folder, and a folder no file.
    EXPECT_FALSE(resolve(*fs_, "/size-1/x"));
    const auto file = resolve(*fs_, "/size-1");
    ASSERT_TRUE(file);
    EXPECT_FALSE(fs_->list(file->file.id));
    EXPECT_FALSE(fs_->lookup(file->file.id, "x"));
    const auto folder = resolve(*fs_, "/deep");
    ASSERT_TRUE(folder);
    EXPECT_TRUE(folder->file.type == FileType::Directory);
    if (GetParam().modes) {
        EXPECT_EQ(file->file.permissions, 0755U);
        EXPECT_TRUE(file->file.executable());
        EXPECT_FALSE(resolve(*fs_, "/size-0")->file.executable());
    }
}

TEST_P(MadeVolumes, LinksLeadWhereTheyShould) {
    if (!GetParam().links) GTEST_SKIP() << "the format has none";
    for (const auto& [path, target] : tree_->links) {
        const auto name = path.substr(1);
        const auto link = fs_->lookup(fs_->root(), name);
        ASSERT_TRUE(link) << path;
        const auto told = fs_->link_target(*link);
        ASSERT_TRUE(told) << path;
        EXPECT_EQ(*told, target);
    }
    const auto text = read_text_file(*fs_, "/short");
    ASSERT_TRUE(text);
    EXPECT_EQ(*text, "1\n");
    EXPECT_FALSE(resolve(*fs_, "/long")) << "the first part of its way is not there";
    EXPECT_FALSE(fs_->link_target(resolve(*fs_, "/size-1")->file.id));
}

INSTANTIATE_TEST_SUITE_P(Tools, MadeVolumes, testing::ValuesIn(makers), support::by_name);

}  // namespace
