// SPDX-License-Identifier: MIT
// SquashFS as its own packer writes it, and as the generator does; then damaged.
#include <sys/stat.h>

#include <array>
#include <filesystem>

#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

using support::expect_all;
using support::shapes;

struct Packer {
    const char* name;
    const char* options;
};
class PackedBy : public testing::TestWithParam<Packer> {};

TEST_P(PackedBy, EveryFileComesBack) {
    if (support::shell("command -v mksquashfs").status != 0) GTEST_SKIP() << "no mksquashfs here";
    const support::Folder folder;
    const auto tree = shapes();
    for (const auto& [path, node] : tree.nodes()) {
        const std::string at = folder.file("tree") + path;
        if (node.kind == forge::Node::Kind::Directory) {
            std::filesystem::create_directories(at);
            continue;
        }
        std::filesystem::create_directories(at.substr(0, at.rfind('/')));
        if (node.kind == forge::Node::Kind::Link) {
            std::filesystem::create_symlink(node.target, at);
        } else {
            folder.write("tree" + path, node.content);
            ASSERT_EQ(::chmod(at.c_str(), node.mode), 0);
        }
    }
    const auto made = support::shell("mksquashfs " + folder.file("tree") + " " + folder.file("packed") +
                                     " -no-progress -quiet -all-root " + GetParam().options);
    ASSERT_EQ(made.status, 0) << made.out;
    const auto source = open_image(folder.file("packed"), 1);
    ASSERT_TRUE(source);
    EXPECT_EQ(recognise_volume(**source).name(), "squashfs");
    const auto fs = open_file_system(*source, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    expect_all(**fs, tree);
}
INSTANTIATE_TEST_SUITE_P(Squashfs, PackedBy,
                         testing::Values(Packer{"zlib", ""}, Packer{"xz", "-comp xz"}, Packer{"zstd", "-comp zstd"},
                                         Packer{"lz4", "-comp lz4"}, Packer{"lzo", "-comp lzo"},
                                         Packer{"lzma", "-comp lzma"}, Packer{"small_blocks", "-b 4096"},
                                         Packer{"large_blocks", "-b 1048576"},
                                         Packer{"not_packed", "-noI -noD -noF -noX"},
                                         Packer{"no_fragments", "-no-fragments -no-sparse"},
                                         Packer{"filters", "-comp xz -Xbcj x86"}),
                         support::by_name);

TEST(Squashfs, TheGeneratorsIsReadAsWell) {
    forge::Tree tree = shapes();
    const auto fs = open_file_system(support::source_of(forge::make_squashfs(tree)), Reader::Loader);
    ASSERT_TRUE(fs) << fs.error().text();
    expect_all(**fs, tree);
    EXPECT_EQ((*fs)->info().name(), "squashfs");
}

TEST(Squashfs, WhatCannotBeIsSaid) {
    forge::Tree tree;
    tree.file("/etc/hostname", "alm\n");
    const auto good = forge::make_squashfs(tree);
    const auto problem = [&](const std::function<void(Bytes&)>& change) {
        Bytes bytes = good;
        change(bytes);
        const auto fs = open_file_system(support::source_of(std::move(bytes)), Reader::Kernel);
        return fs ? Error{} : fs.error();
    };
    EXPECT_EQ(problem([](Bytes&) {}).what, "");
    EXPECT_EQ(problem([](Bytes& b) { forge::put16(b, 28, 3); }).what, "SquashFS 3.0");
    EXPECT_EQ(problem([](Bytes& b) { forge::put16(b, 28, 3); }).kind, ErrorKind::Unsupported);
    EXPECT_EQ(problem([](Bytes& b) { forge::put16(b, 20, 7); }).kind, ErrorKind::Unsupported);
    EXPECT_EQ(problem([](Bytes& b) { forge::put32(b, 12, 131'073); }).kind, ErrorKind::Malformed);
    EXPECT_EQ(problem([](Bytes& b) { forge::put32(b, 12, 2U << 20U); }).kind, ErrorKind::Malformed);
    EXPECT_EQ(problem([](Bytes& b) { b.resize(100); }).what, "the volume is cut short");
    EXPECT_EQ(problem([](Bytes& b) { forge::put64(b, 32, 0xFFFF); }).kind, ErrorKind::Malformed);
}

TEST(Squashfs, DamageEndsWithAnErrorOrOtherBytes) {
    forge::Tree tree;
    tree.file("/etc/hostname", "alm\n").link("/link", "etc/hostname").file("/noise", forge::noise(3000, 9));
    const auto good = forge::make_squashfs(tree);
    std::size_t errors = 0;
    for (std::size_t at = 0; at < good.size() && at < 5000; ++at)
        for (const std::uint8_t flip : {std::uint8_t{0xFF}, std::uint8_t{0x10}}) {
            Bytes bytes = good;
            bytes[at] ^= flip;
            const auto fs = open_file_system(support::source_of(std::move(bytes)), Reader::Kernel);
            if (!fs) {
                ++errors;
                continue;
            }
            for (const auto& [path, node] : tree.nodes()) {
                const auto found = resolve(**fs, path);
                if (!found) {
                    ++errors;
                    continue;
                }
                (void)(*fs)->list(found->file.id);
                if (const auto file = (*fs)->open(found->file.id, path); file && (*file)->size() < 100'000)
                    if (!(*file)->bytes(0, (*file)->size())) ++errors;
            }
        }
    EXPECT_GT(errors, 100U);
}

}  // namespace
