// SPDX-License-Identifier: MIT
// Windows imaging files as the packaged library for them writes them, and as the generator does; then damaged.
#include <wimlib.h>

#include <filesystem>

#include "forge/windows.hpp"
#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

forge::Tree files() {
    forge::Tree out;
    out.file("/Windows/System32/ntoskrnl.exe", forge::noise(70000, 3));
    Bytes plain;
    for (int i = 0; i < 9000; ++i)
        for (const char c : std::string("hut ") + std::to_string(i % 97) + "\n")
            plain.push_back(static_cast<std::uint8_t>(c));
    out.file("/Windows/System32/config/SYSTEM", plain);
    out.file("/Windows/System32/again.dat", plain);  // stored once
    out.file("/Windows/exactly.dat", Bytes(plain.begin(), plain.begin() + 65536));
    out.file("/Windows/empty.dat", "");
    out.file("/short", "x");
    out.directory("/nothing in here");
    for (int i = 0; i < 300; ++i) out.file("/many/" + std::to_string(i), "room " + std::to_string(i));
    return out;
}

/// Every file of `tree` comes back, by name and by content, and nothing else is there.
void expect_files(const FileSystem& fs, const forge::Tree& tree) {
    std::size_t seen = 0;
    std::vector<std::pair<std::string, FileId>> pending{{"", fs.root()}};
    while (!pending.empty()) {
        const auto [path, id] = pending.back();
        pending.pop_back();
        const auto names = fs.list(id);
        ASSERT_TRUE(names) << names.error().text();
        for (const auto& name : *names) {
            const std::string here = path + "/" + name.name;
            ASSERT_TRUE(tree.nodes().contains(here)) << here;
            ++seen;
            const auto& node = tree.nodes().at(here);
            const bool directory = node.kind == forge::Node::Kind::Directory;
            EXPECT_EQ(name.type, directory ? FileType::Directory : FileType::Regular) << here;
            if (directory) {
                pending.emplace_back(here, name.id);
                continue;
            }
            const auto info = fs.stat(name.id);
            ASSERT_TRUE(info) << info.error().text();
            EXPECT_EQ(info->size, node.content.size()) << here;
            const auto content = fs.open(name.id, here);
            ASSERT_TRUE(content) << content.error().text();
            const auto bytes = (*content)->bytes(0, (*content)->size());
            ASSERT_TRUE(bytes) << bytes.error().text();
            EXPECT_TRUE(*bytes == node.content) << here;
            // From the middle, over the edge of a piece.
            if (node.content.size() > 40000) {
                const auto part = (*content)->bytes(32760, 16);
                ASSERT_TRUE(part);
                EXPECT_TRUE(std::equal(part->begin(), part->end(), node.content.begin() + 32760)) << here;
            }
        }
    }
    EXPECT_EQ(seen, std::ranges::count_if(tree.nodes(), [](const auto& one) { return one.first != "/"; }));
}

struct Packer {
    const char* name;
    wimlib_compression_type type;
    std::uint32_t chunk;
    const char* called;
};
class WimBy : public testing::TestWithParam<Packer> {};

/// As the library writes it: with two images, of which the second is to be started.
TEST_P(WimBy, EveryFileComesBack) {
    const support::Folder folder;
    const auto tree = files();
    for (const auto& [path, node] : tree.nodes()) {
        const std::string at = folder.file("tree") + path;
        if (node.kind == forge::Node::Kind::Directory) std::filesystem::create_directories(at);
        else folder.write("tree" + path, node.content);
    }
    std::filesystem::create_directories(folder.file("other"));
    folder.write("other/only.txt", forge::to_bytes("the other image"));
    WIMStruct* wim = nullptr;
    ASSERT_EQ(wimlib_create_new_wim(GetParam().type, &wim), 0);
    if (GetParam().chunk != 0) {
        ASSERT_EQ(wimlib_set_output_chunk_size(wim, GetParam().chunk), 0);
    }
    ASSERT_EQ(wimlib_add_image(wim, folder.file("other").c_str(), "Other", nullptr, 0), 0);
    ASSERT_EQ(wimlib_add_image(wim, folder.file("tree").c_str(), "Almhof Rescue", nullptr, WIMLIB_ADD_FLAG_BOOT), 0);
    ASSERT_EQ(wimlib_write(wim, folder.file("out.wim").c_str(), WIMLIB_ALL_IMAGES, 0, 1), 0);
    wimlib_free(wim);
    const auto source = open_image(folder.file("out.wim"), 1);
    ASSERT_TRUE(source);
    EXPECT_TRUE(is_wim(**source));
    EXPECT_EQ(recognise_volume(**source).name(), "imaging file");
    const auto told = inspect_wim(**source);
    ASSERT_TRUE(told) << told.error().text();
    EXPECT_EQ(told->images, 2);
    EXPECT_EQ(told->boot_image, 2);
    EXPECT_EQ(told->packing, GetParam().called);
    EXPECT_LE(told->size, (*source)->size());
    EXPECT_NE(told->description.find("<NAME>Almhof Rescue</NAME>"), std::string::npos) << told->description;
    const auto fs = open_file_system(*source, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    expect_files(**fs, tree);
    const auto other = open_wim(*source, 1);
    ASSERT_TRUE(other) << other.error().text();
    EXPECT_EQ(read_text_file(**other, "/ONLY.txt").value_or(""), "the other image");
    const auto third = open_wim(*source, 3);
    ASSERT_FALSE(third);
    EXPECT_EQ(third.error().kind, ErrorKind::NotFound);
    EXPECT_EQ(third.error().what, "no image 3 in it");
}
INSTANTIATE_TEST_SUITE_P(Wim, WimBy,
                         testing::Values(Packer{"none", WIMLIB_COMPRESSION_TYPE_NONE, 0, "none"},
                                         Packer{"xpress", WIMLIB_COMPRESSION_TYPE_XPRESS, 0, "XPRESS"},
                                         Packer{"xpress_small", WIMLIB_COMPRESSION_TYPE_XPRESS, 4096, "XPRESS"},
                                         Packer{"lzx", WIMLIB_COMPRESSION_TYPE_LZX, 32768, "LZX"}),
                         support::by_name);

/// What the generator writes, the packaged library accepts and unpacks.
TEST(Wim, OfTheGeneratorIsSoundForThePackagedLibrary) {
    const auto tree = files();
    for (const bool packed : {false, true}) {
        const support::Folder folder;
        forge::WimOptions options;
        if (packed) options.pack_piece = support::pack_piece;
        options.lzx = packed;
        options.description = "<WIM><IMAGE INDEX=\"1\"><NAME>Almhof</NAME></IMAGE></WIM>";
        const auto bytes = forge::make_wim(tree, options);
        const auto path = folder.write("own.wim", bytes);
        WIMStruct* wim = nullptr;
        ASSERT_EQ(wimlib_open_wim(path.c_str(), 0, &wim), 0);
        EXPECT_EQ(wimlib_verify_wim(wim, 0), 0);
        ASSERT_EQ(wimlib_extract_image(wim, 1, folder.file("out").c_str(), 0), 0);
        wimlib_free(wim);
        for (const auto& [name, node] : tree.nodes())
            if (node.kind == forge::Node::Kind::File) {
                EXPECT_TRUE(support::file_bytes(folder.file("out") + name) == node.content) << name;
            }
        const auto fs = open_wim(support::source_of(bytes), 1);
        ASSERT_TRUE(fs) << fs.error().text();
        expect_files(**fs, tree);
        EXPECT_TRUE(resolve(**fs, "/WINDOWS/system32/NTOSKRNL.EXE"));
    }
}

struct Damage {
    const char* name;
    std::function<void(Bytes&)> change;
    ErrorKind kind;
    const char* what;
};
class DamagedWim : public testing::TestWithParam<Damage> {};

TEST_P(DamagedWim, IsRefusedWithItsReason) {
    auto bytes = forge::make_wim(files());
    GetParam().change(bytes);
    const auto fs = open_file_system(support::source_of(bytes, "d1p3:/Winre.wim"), Reader::Kernel);
    ASSERT_FALSE(fs);
    EXPECT_EQ(fs.error().kind, GetParam().kind) << fs.error().text();
    EXPECT_EQ(fs.error().what, GetParam().what);
    EXPECT_TRUE(fs.error().place.starts_with("d1p3:/Winre.wim")) << fs.error().place;
}
std::uint64_t get64(const Bytes& bytes, std::size_t at) {
    return forge::get32(bytes, at) | std::uint64_t{forge::get32(bytes, at + 4)} << 32U;
}
INSTANTIATE_TEST_SUITE_P(
    Wim, DamagedWim,
    testing::Values(Damage{"header_cut", [](Bytes& b) { b.resize(207); }, ErrorKind::OutOfRange,
                           "the header is cut short: a read past the end"},
                    Damage{"small_header", [](Bytes& b) { forge::put32(b, 8, 207); }, ErrorKind::Malformed,
                           "a header of an impossible size"},
                    Damage{"solid", [](Bytes& b) { forge::put32(b, 12, 0xE00); }, ErrorKind::Unsupported,
                           "its resources are packed together"},
                    Damage{"several", [](Bytes& b) { forge::put16(b, 42, 3); }, ErrorKind::Unsupported,
                           "its resources lie in 3 files"},
                    Damage{"one_byte_short", [](Bytes& b) { b.pop_back(); }, ErrorKind::OutOfRange, "it is cut short"},
                    Damage{"half", [](Bytes& b) { b.resize(b.size() / 2); }, ErrorKind::OutOfRange, "it is cut short"},
                    Damage{"table_beyond_all", [](Bytes& b) { forge::put64(b, 56, ~std::uint64_t{0}); },
                           ErrorKind::OutOfRange, "it is cut short"},
                    Damage{"other_image",
                           [](Bytes& b) {
                               forge::put32(b, 120, 9);
                               forge::put64(b, 96, 0);
                           },
                           ErrorKind::NotFound, "no image 9 in it"},
                    Damage{"root_gone", [](Bytes& b) { forge::put64(b, get64(b, 104) + 8, 3); }, ErrorKind::Malformed,
                           "an entry of an impossible size"},
                    Damage{"root_is_a_file", [](Bytes& b) { forge::put32(b, get64(b, 104) + 16, 0x20); },
                           ErrorKind::Malformed, "the root of the image is no directory"}),
    support::by_name);

/// A directory that leads back to itself is as deep as one asks for; one whose entries run over the end says so.
TEST(Wim, DirectoriesThatLie) {
    auto bytes = forge::make_wim(files());
    const std::size_t root = get64(bytes, 104) + 8;
    const std::uint64_t children = get64(bytes, root + 16);
    forge::put64(bytes, root + 16, 8);
    const auto circle = open_wim(support::source_of(bytes), 1);
    ASSERT_TRUE(circle);
    const auto names = (*circle)->list((*circle)->root());
    ASSERT_TRUE(names);
    ASSERT_EQ(names->size(), 1);
    EXPECT_EQ(names->front().id, (*circle)->root());
    forge::put64(bytes, root + 16, children);
    forge::put64(bytes, get64(bytes, 104) + children, std::uint64_t{1} << 40U);
    const auto over = open_wim(support::source_of(bytes), 1);
    ASSERT_TRUE(over);
    const auto none = (*over)->list((*over)->root());
    ASSERT_FALSE(none);
    EXPECT_EQ(none.error().what, "an entry of an impossible size");
    forge::put64(bytes, root + 16, std::uint64_t{1} << 50U);
    const auto behind = open_wim(support::source_of(bytes), 1);
    ASSERT_TRUE(behind);
    EXPECT_EQ((*behind)->lookup((*behind)->root(), "short").error().what,
              "a directory that does not end in the image's metadata");
}

/// Contents: one that the table does not list, one that is cut off by a table's lie, and packings that are not read.
TEST(Wim, ContentsThatAreNotThere) {
    const auto sound = forge::make_wim(files());
    auto bytes = sound;
    for (std::size_t at = get64(bytes, 56), end = at + (get64(bytes, 48) & 0xFFFFFFFFFFFFFFU); at < end; at += 50)
        bytes[at + 30] ^= 0xFFU;
    auto fs = open_wim(support::source_of(bytes), 1);
    ASSERT_TRUE(fs);
    auto file = resolve(**fs, "/short");
    ASSERT_TRUE(file);
    auto content = (*fs)->open(file->file.id, "d1p3:/Winre.wim:/short");
    ASSERT_FALSE(content);
    EXPECT_EQ(content.error().what, "the image's table does not list its content");
    bytes = sound;
    for (std::size_t at = get64(bytes, 56), end = at + (get64(bytes, 48) & 0xFFFFFFFFFFFFFFU); at < end; at += 50)
        if ((get64(bytes, at) >> 56U & 2U) == 0) forge::put64(bytes, at + 8, bytes.size());
    fs = open_wim(support::source_of(bytes), 1);
    ASSERT_TRUE(fs);
    file = resolve(**fs, "/short");
    ASSERT_TRUE(file);
    content = (*fs)->open(file->file.id, "d1p3:/Winre.wim:/short");
    ASSERT_FALSE(content);
    EXPECT_EQ(content.error().kind, ErrorKind::OutOfRange);
    EXPECT_EQ(content.error().what, "its content lies behind the end of the image");
    forge::WimOptions options;
    options.pack_piece = support::pack_piece;
    auto packed = forge::make_wim(files(), options);
    forge::put32(packed, 16, 0x80002);
    auto none = open_wim(support::source_of(packed), 1);
    ASSERT_FALSE(none);
    EXPECT_EQ(none.error().kind, ErrorKind::Unsupported);
    EXPECT_EQ(none.error().what, "packed by LZMS");
    forge::put32(packed, 16, 0x20002);
    for (const std::uint32_t chunk : {0U, 131072U, 3000U}) {
        forge::put32(packed, 20, chunk);
        none = open_wim(support::source_of(packed), 1);
        ASSERT_FALSE(none);
        EXPECT_EQ(none.error().what, "packed in pieces of " + std::to_string(chunk) + " bytes");
    }
}

}  // namespace
