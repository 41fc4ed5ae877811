// SPDX-License-Identifier: MIT
// exFAT: our writer by the measure of the system's own checker and of GRUB, our reader by both; then damaged.
#include <fmt/format.h>

#include "forge/exfat.hpp"
#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

forge::Tree tree_for_exfat() {
    forge::Tree out;
    out.file("/boot/grub/grub.cfg", "set timeout=5\n").file("/empty", std::string());
    for (int i = 0; i < 300; ++i)
        out.file(fmt::format("/many/a rather long name for room {}", i), fmt::format("key {}", i), 0755);
    out.file("/one piece", forge::noise(300'000, 3), 0755).file("/a chain", forge::noise(300'001, 4), 0755);
    for (const char* path : {"/boot/grub/grub.cfg", "/empty"}) out.at(path).mode = 0755;
    return out;
}

Result<std::shared_ptr<const FileSystem>> opened(const Bytes& image, Reader reader = Reader::Kernel) {
    return open_file_system(memory_source(image, "d1p1", 1), reader);
}

TEST(Exfat, EveryFileComesBack) {
    const auto tree = tree_for_exfat();
    const auto image = forge::make_exfat(tree);
    const auto info = recognise_volume(*memory_source(image, "d1p1", 1));
    EXPECT_EQ(info.format, Format::Exfat);
    EXPECT_EQ(info.uuid, "A1B0-E0FA");
    EXPECT_EQ(info.label, "inn");
    EXPECT_EQ(info.size, image.size());
    EXPECT_EQ(info.block_size, 4096U);
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto fs = opened(image, reader);
        ASSERT_TRUE(fs) << fs.error().text();
        support::expect_all(**fs, tree);
        EXPECT_TRUE(resolve(**fs, "/BOOT/./Grub/../GRUB/Grub.CFG"));
        EXPECT_FALSE((*fs)->link_target((*fs)->root()));
    }
}

TEST(Exfat, TheSystemsCheckerAndGrubReadWhatOurWriterWrites) {
    const support::Folder folder;
    const auto tree = tree_for_exfat();
    const auto path = folder.write("volume.img", forge::make_exfat(tree));
    if (support::works("fsck.exfat -V")) EXPECT_TRUE(support::works("fsck.exfat -n " + path));
    if (!support::works("grub-fstest --version")) GTEST_SKIP() << "no grub-fstest here";
    for (const char* name : {"one piece", "a chain"}) {
        const auto file = folder.write("file", tree.nodes().at(std::string("/") + name).content);
        EXPECT_TRUE(support::works(fmt::format("grub-fstest {} cmp '(loop0)/{}' {}", path, name, file))) << name;
    }
}

TEST(Exfat, WhatTheSystemsOwnToolMakesIsEmptyAndSound) {
    const support::Folder folder;
    const auto path = folder.file("volume.img");
    if (!support::works("truncate -s 32M " + path + " && mkfs.exfat -L cellar " + path))
        GTEST_SKIP() << "no exFAT can be made here";
    const auto image = open_image(path, 1);
    ASSERT_TRUE(image);
    EXPECT_EQ(recognise_volume(**image).label, "cellar");
    const auto fs = open_file_system(*image, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    const auto names = (*fs)->list((*fs)->root());
    ASSERT_TRUE(names);
    EXPECT_TRUE(names->empty());
}

/// A change to the volume, and what comes of it.
struct Damage {
    const char* name;
    std::function<void(Bytes&)> change;
    std::optional<ErrorKind> kernel, loader;
    const char* place;
};
class ExfatDamage : public testing::TestWithParam<Damage> {};
TEST_P(ExfatDamage, IsToldWithItsPlace) {
    auto image = forge::make_exfat(tree_for_exfat());
    GetParam().change(image);
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto wanted = reader == Reader::Kernel ? GetParam().kernel : GetParam().loader;
        const auto fs = opened(image, reader);
        ASSERT_EQ(!fs, wanted.has_value()) << (fs ? "" : fs.error().text());
        if (!wanted) continue;
        EXPECT_EQ(fs.error().kind, *wanted) << fs.error().text();
        EXPECT_EQ(fs.error().place, GetParam().place);
    }
}
INSTANTIATE_TEST_SUITE_P(
    All, ExfatDamage,
    testing::Values(
        Damage{"OneBitOfTheBootCode", [](Bytes& b) { b[200] ^= 1U; }, ErrorKind::Checksum, {}, "d1p1@0+512"},
        Damage{"OneBitOfTheSum", [](Bytes& b) { b[11 * 512 + 508] ^= 1U; }, ErrorKind::Checksum, {}, "d1p1@0+512"},
        Damage{"InUseAndFull", [](Bytes& b) { b[106] = 2, b[112] = 100; }, {}, {}, ""},
        Damage{"NoSignature", [](Bytes& b) { b[511] = 0; }, ErrorKind::Malformed, {}, "d1p1@0+512"},
        Damage{"ThreeTables", [](Bytes& b) { b[110] = 3; }, ErrorKind::Malformed, ErrorKind::Malformed, "d1p1@0+512"},
        Damage{"TableTooShort", [](Bytes& b) { forge::put32(b, 84, 1); }, ErrorKind::Malformed, ErrorKind::Malformed,
               "d1p1@0+512"}),
    support::by_name);

TEST(Exfat, AChainThatLeadsAstrayIsNoFile) {
    auto image = forge::make_exfat(tree_for_exfat());
    const auto fs = opened(image, Reader::Loader);
    ASSERT_TRUE(fs);
    const auto file = resolve(**fs, "/one piece");
    const auto other = resolve(**fs, "/a chain");
    ASSERT_TRUE(file && other);
    const auto pieces = (*fs)->extents(other->file.id);
    ASSERT_TRUE(pieces);
    EXPECT_GT(pieces->size(), 70U);
    // The second cluster of the file that lies in a chain leads out of the volume, then back to itself.
    const std::size_t data = std::size_t{forge::get32(image, 88)} * 512;
    const auto cluster = static_cast<std::uint32_t>(((*pieces)[1].base_offset - data) / 4096 + 2);
    const std::size_t link = std::size_t{forge::get32(image, 80)} * 512 + std::size_t{cluster} * 4;
    forge::put32(image, link, 0x00F00000);
    const auto astray = opened(image, Reader::Loader);
    const auto found = resolve(**astray, "/a chain");
    ASSERT_TRUE(found);
    const auto refused = (*astray)->open(found->file.id, "x");
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Malformed);
    forge::put32(image, link, 0xFFFFFFFF);
    const auto cut = opened(image, Reader::Loader);
    const auto shorter = (*cut)->open(resolve(**cut, "/a chain")->file.id, "x");
    ASSERT_FALSE(shorter);
    EXPECT_EQ(shorter.error().found, "8192");
    EXPECT_TRUE((*cut)->open(resolve(**cut, "/one piece")->file.id, "x"));
}

TEST(Exfat, CutAnywhereNothingIsReadBeyond) {
    const auto image = forge::make_exfat(tree_for_exfat());
    for (const std::ptrdiff_t size : {0, 511, 512, 6143, 6144, 65536, 100'000})
        EXPECT_FALSE(opened(Bytes(image.begin(), image.begin() + size))) << size;
}

}  // namespace
