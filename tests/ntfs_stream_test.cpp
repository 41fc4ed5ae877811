// SPDX-License-Identifier: MIT
// The bytes of NTFS files as attributes give them: compressed units (LZNT1, [MS-XCA] 2.5), written here by hand from
// the specification; attributes that are encrypted or of a size that is changed; links ([MS-FSCC] 2.1.2).
#include <functional>

#include "forge/windows.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

constexpr std::size_t cluster = 4096, unit = 16 * cluster, mft = 4 * cluster, record_size = 1024;

// --- pieces of LZNT1 -------------------------------------------------------------------------------------------------

/// A chunk that is packed: its head (three bits of signature, the flag, the length less one), and its bytes.
Bytes chunk(const Bytes& body) {
    Bytes out(2);
    forge::put16(out, 0, static_cast<std::uint16_t>(0xB000U | (body.size() - 1)));
    out.insert(out.end(), body.begin(), body.end());
    return out;
}
/// One that is as it was.
Bytes plain_chunk(const Bytes& body) {
    Bytes out(2);
    forge::put16(out, 0, static_cast<std::uint16_t>(0x3000U | (body.size() - 1)));
    out.insert(out.end(), body.begin(), body.end());
    return out;
}
Bytes operator+(Bytes a, const Bytes& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
}
Bytes repeated(const Bytes& piece, std::size_t size) {
    Bytes out;
    while (out.size() < size) out.push_back(piece[out.size() % piece.size()]);
    return out;
}

/// "Almhof " and a copy from seven bytes back: of the 16 bits, 12 are the length's at this place.
const Bytes almhof = forge::to_bytes("Almhof ");
Bytes all_of_a_chunk() { return chunk(Bytes{0x80} + almhof + Bytes{0xF6, 0x6F}); }  // 6 << 12 | 4086: 4089 bytes
/// Twenty different bytes, then copies where 11 bits are the length's, then a last byte.
Bytes a_short_chunk() {
    Bytes body;
    for (unsigned i = 0; i < 20; ++i) {
        if (i % 8 == 0) body.push_back(i < 16 ? 0x00 : 0x30);  // the fifth and sixth token of the third group: copies
        body.push_back(static_cast<std::uint8_t>('a' + i));
    }
    // back 20, 5 bytes; back 1, 3 bytes.
    return chunk(body + Bytes{0x02, 0x98} + Bytes{0x00, 0x00} + Bytes{'!'});
}
Bytes short_text() { return forge::to_bytes("abcdefghijklmnopqrstabcdeeee!"); }

std::size_t get16(const Bytes& bytes, std::size_t at) { return bytes[at] | std::size_t{bytes[at + 1]} << 8U; }

/// A file whose attribute is put together here.
struct Stored {
    Bytes packed;                         ///< what lies in its clusters, one behind the other
    std::function<Bytes(unsigned)> runs;  ///< the mapping pairs, from the first cluster
    std::uint64_t clusters = 16;          ///< that the attribute claims
    std::uint64_t size = unit;
    std::optional<std::uint64_t> valid = {};
    std::uint16_t flags = 1;
    std::uint8_t unit_shift = 4;
};

struct Volume {
    Bytes image;
    std::size_t record = 0;  ///< where the file's record lies
    FileId file = 0;
    std::uint64_t first = 0;  ///< the first byte of its clusters
    [[nodiscard]] std::shared_ptr<const FileSystem> open() const {
        auto fs = open_file_system(support::source_of(image, "d1p1"), Reader::Kernel);
        EXPECT_TRUE(fs) << (fs ? "" : fs.error().text());
        return fs ? *fs : nullptr;
    }
    /// All of the file.
    [[nodiscard]] Result<Bytes> bytes() const {
        const auto source = open()->open(file, "/x.bin");
        return source ? (*source)->bytes(0, (*source)->size()) : tl::unexpected(source.error());
    }
};

/// Puts an attribute in place of that of the file's data, which is the last of its record.
void put_attribute(Volume& volume, Bytes attribute) {
    auto& image = volume.image;
    std::size_t at = volume.record + get16(image, volume.record + 20);
    while (forge::get32(image, at) != 0x80) at += forge::get32(image, at + 4);
    forge::put32(attribute, 4, static_cast<std::uint32_t>(attribute.size()));
    std::copy(attribute.begin(), attribute.end(), image.begin() + static_cast<std::ptrdiff_t>(at));
    forge::put32(image, at + attribute.size(), 0xFFFFFFFFU);
    forge::put32(image, volume.record + 24, static_cast<std::uint32_t>(at + attribute.size() + 8 - volume.record));
}

Volume volume_with(const Stored& stored) {
    forge::Tree tree;
    Bytes clusters = stored.packed;
    clusters.resize(std::max<std::size_t>((clusters.size() + cluster - 1) / cluster, 2) * cluster);
    tree.file("/x.bin", clusters);
    Volume out;
    out.image = forge::make_ntfs(tree, {4U << 20U, 0, 1, "", "", false});
    const auto fs = out.open();
    const auto found = resolve(*fs, "/x.bin");
    out.file = found->file.id;
    out.first = (*fs->open(out.file, "x"))->locate(0, 1).front().offset;
    out.record = mft + (out.file & 0xFFFFFFFFFFFFU) * record_size;
    // [NTFS] $DATA, not resident, compressed.
    Bytes a(72);
    forge::put32(a, 0, 0x80);
    a[8] = 1;
    forge::put16(a, 12, stored.flags);
    forge::put64(a, 24, stored.clusters - 1);
    forge::put16(a, 32, 72);
    a[34] = stored.unit_shift;
    forge::put64(a, 40, stored.clusters * cluster);
    forge::put64(a, 48, stored.size);
    forge::put64(a, 56, stored.valid.value_or(stored.size));
    a = a + stored.runs(static_cast<unsigned>(out.first / cluster));
    a.resize((a.size() + 8) / 8 * 8);
    put_attribute(out, std::move(a));
    return out;
}

/// Mapping pairs: a run of `count` clusters at `delta` from the one before, or one that is not stored.
Bytes run(unsigned count, unsigned delta) {
    return {0x21, static_cast<std::uint8_t>(count), static_cast<std::uint8_t>(delta),
            static_cast<std::uint8_t>(delta >> 8U)};
}
Bytes hole(unsigned count) { return {0x01, static_cast<std::uint8_t>(count)}; }
/// One unit in one cluster.
Bytes one_unit(unsigned first) { return run(1, first) + hole(15); }

struct Unpacked {
    const char* name;
    Stored stored;
    Bytes content;
};
class CompressedFiles : public testing::TestWithParam<Unpacked> {};
TEST_P(CompressedFiles, ComeBackAsTheyWere) {
    const auto volume = volume_with(GetParam().stored);
    const auto fs = volume.open();
    const auto source = fs->open(volume.file, "/x.bin");
    ASSERT_TRUE(source) << source.error().text();
    EXPECT_EQ((*source)->size(), GetParam().content.size());
    const auto bytes = (*source)->bytes(0, (*source)->size());
    ASSERT_TRUE(bytes) << bytes.error().text();
    EXPECT_TRUE(*bytes == GetParam().content);
    // A part of it, and where it lies: the clusters of its unit.
    const std::size_t middle = GetParam().content.size() / 2;
    EXPECT_EQ(*(*source)->bytes(middle, 5),
              Bytes(GetParam().content.begin() + static_cast<std::ptrdiff_t>(middle),
                    GetParam().content.begin() + static_cast<std::ptrdiff_t>(middle + 5)));
    EXPECT_TRUE((*source)->locate(0, 0).empty());
}
INSTANTIATE_TEST_SUITE_P(
    Ntfs, CompressedFiles,
    testing::Values(Unpacked{"ACopyThatFillsEachChunk",
                             {repeated(all_of_a_chunk(), 16 * all_of_a_chunk().size()), one_unit},
                             [] {
                                 Bytes out;
                                 for (int i = 0; i < 16; ++i) out = out + repeated(almhof, 4096);
                                 return out;
                             }()},
                    // The end of the data: two bytes of zero; what is not told is zero.
                    Unpacked{"AShortChunk", {a_short_chunk() + Bytes{0, 0}, one_unit}, short_text() + Bytes(unit - 29)},
                    // A short chunk before another one is filled up.
                    Unpacked{"AShortChunkAndAnother",
                             {a_short_chunk() + all_of_a_chunk(), one_unit},
                             short_text() + Bytes(4096 - 29) + repeated(almhof, 4096) + Bytes(unit - 8192)},
                    Unpacked{"AChunkAsItIs",
                             {plain_chunk(forge::noise(4096, 5)) + a_short_chunk(),
                              [](unsigned at) { return run(2, at) + hole(14); }, 16, 4200},
                             forge::noise(4096, 5) + short_text() + Bytes(4200 - 4096 - 29)},
                    Unpacked{"OfAnOddSize", {a_short_chunk(), one_unit, 16, 29}, short_text()},
                    Unpacked{"WrittenOnlyToItsMiddle",
                             {all_of_a_chunk(), one_unit, 16, unit, 700},
                             repeated(almhof, 700) + Bytes(unit - 700)},
                    Unpacked{"AUnitAsItIs",
                             {forge::noise(unit, 6), [](unsigned at) { return run(16, at); }},
                             forge::noise(unit, 6)},
                    Unpacked{"AUnitAsItIsInTwoRuns",
                             {forge::noise(unit, 7),
                              [](unsigned at) {
                                  return run(8, at + 8) + Bytes{0x11, 8, 0xF8};
                              }},
                             [] {
                                 const auto whole = forge::noise(unit, 7);
                                 return Bytes(whole.begin() + unit / 2, whole.end()) +
                                        Bytes(whole.begin(), whole.begin() + unit / 2);
                             }()},
                    Unpacked{"AUnitThatIsNotThere", {{}, [](unsigned) { return hole(16); }}, Bytes(unit)},
                    Unpacked{"ThreeUnits",
                             {a_short_chunk() + Bytes(cluster - a_short_chunk().size()) + forge::noise(unit, 8),
                              [](unsigned at) { return one_unit(at) + run(16, 1) + hole(16); }, 48, 2 * unit + 100},
                             short_text() + Bytes(unit - 29) + forge::noise(unit, 8) + Bytes(100)}),
    support::by_name);

struct Refused {
    const char* name;
    Bytes packed;
    ErrorKind kind;
    const char* what;
};
class CompressedFilesDamaged : public testing::TestWithParam<Refused> {};
TEST_P(CompressedFilesDamaged, TellWhatIsWrong) {
    const auto bytes = volume_with({GetParam().packed, one_unit}).bytes();
    ASSERT_FALSE(bytes);
    EXPECT_EQ(bytes.error().kind, GetParam().kind);
    EXPECT_EQ(bytes.error().what, GetParam().what);
    EXPECT_EQ(bytes.error().place, "/x.bin");
}
INSTANTIATE_TEST_SUITE_P(Ntfs, CompressedFilesDamaged,
                         testing::Values(
                             // A second chunk that would reach one byte beyond the only cluster.
                             Refused{"CutOff", plain_chunk(forge::noise(4000, 1)) + Bytes{0x5C, 0x30} + Bytes(92, 1),
                                     ErrorKind::OutOfRange, "a compressed piece is cut off"},
                             Refused{"EndsInsideACopy", chunk(Bytes{0x02, 'a', 0x00}), ErrorKind::Malformed,
                                     "a compressed piece ends inside a copy"},
                             Refused{"BeginsWithACopy", chunk(Bytes{0x01, 0x00, 0x00}), ErrorKind::Malformed,
                                     "a copy from before the piece"},
                             Refused{"CopiesFromBefore", chunk(Bytes{0x02, 'a', 0x00, 0x10}), ErrorKind::Malformed,
                                     "a copy from outside the piece"},
                             Refused{"CopiesBeyondTheEnd", chunk(Bytes{0x02, 'a', 0xFD, 0x0F}), ErrorKind::Malformed,
                                     "a copy from outside the piece"}),
                         support::by_name);

TEST(CompressedFilesAtTheEdge, ACopyMayReachTheLastByteAndTheFirst) {
    // One byte, and 4095 of it: the most that stays within a chunk; one back is as far as there is.
    const auto bytes = volume_with({chunk(Bytes{0x02, 'a', 0xFC, 0x0F}), one_unit, 16, 4096}).bytes();
    ASSERT_TRUE(bytes) << bytes.error().text();
    EXPECT_EQ(*bytes, Bytes(4096, 'a'));
    // The last chunk that just fits into the cluster.
    const auto fits = volume_with({plain_chunk(forge::noise(4000, 1)) + Bytes{0x5B, 0x30} + Bytes(92, 1), one_unit});
    ASSERT_TRUE(fits.bytes()) << fits.bytes().error().text();
    EXPECT_EQ((*fits.bytes())[4096], 1);
}

TEST(CompressedFilesAtTheEdge, WhatCannotBeReadIsSaid) {
    const auto volume = volume_with({all_of_a_chunk(), one_unit});
    const auto source = with_unreadable(support::source_of(volume.image, "d1p1"), {{volume.first + 512, 512}});
    const auto fs = open_file_system(source, Reader::Kernel);
    ASSERT_TRUE(fs);
    const auto file = (*fs)->open(volume.file, "/x.bin");
    const auto bytes = (*file)->bytes(0, 10);
    ASSERT_FALSE(bytes);
    EXPECT_EQ(bytes.error().kind, ErrorKind::Unreadable);
    // A unit lies in the clusters that are stored of it.
    EXPECT_EQ((*file)->locate(5, 1), (std::vector<DiskRange>{{1, volume.first, cluster}}));
}

TEST(NtfsAttributes, AnEncryptedFileIsNotRead) {
    const auto bytes =
        volume_with({forge::noise(unit, 2), [](unsigned at) { return run(16, at); }, 16, unit, {}, 0x4000, 0}).bytes();
    ASSERT_FALSE(bytes);
    EXPECT_EQ(bytes.error().kind, ErrorKind::Unsupported);
    EXPECT_EQ(bytes.error().what, "the file is encrypted");
    EXPECT_EQ(bytes.error().place, "/x.bin");
}

// --- a file's size, changed within its clusters ----------------------------------------------------------------------

TEST(NtfsAttributes, TheSizeOfAFileIsChangedInBothFields) {
    auto volume =
        volume_with({forge::noise(3 * cluster, 3), [](unsigned at) { return run(3, at); }, 3, 3 * cluster, {}, 0, 0});
    const auto edits = volume.open()->resized(volume.file, 2 * cluster + 1);
    ASSERT_TRUE(edits) << edits.error().text();
    EXPECT_EQ(edits->size(), 16U);
    for (const auto& edit : *edits)
        std::copy(edit.bytes.begin(), edit.bytes.end(),
                  volume.image.begin() + static_cast<std::ptrdiff_t>(edit.offset));
    const auto whole = forge::noise(3 * cluster, 3);
    EXPECT_EQ(*volume.bytes(), Bytes(whole.begin(), whole.begin() + 2 * cluster + 1));
    // One byte fewer is another number of clusters, and so is one more than there are.
    for (const std::uint64_t size : {std::uint64_t{2 * cluster}, std::uint64_t{3 * cluster + 1}}) {
        const auto refused = volume.open()->resized(volume.file, size);
        ASSERT_FALSE(refused) << size;
        EXPECT_EQ(refused.error().kind, ErrorKind::TooLarge);
        EXPECT_EQ(refused.error().what, "the file would need another number of clusters");
    }
    const auto packed = volume_with({all_of_a_chunk(), one_unit});
    const auto refused = packed.open()->resized(packed.file, unit - 1);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Unsupported);
    EXPECT_EQ(refused.error().what, "its content lies inside its record, is compressed, or in several records");
}

// --- links -----------------------------------------------------------------------------------------------------------

/// A reparse point in place of the file's data: its tag, and its names.
Volume link_with(std::uint32_t tag, std::string_view target, unsigned more_flags, std::uint16_t offset = 0) {
    auto volume = volume_with({forge::noise(8192, 4), [](unsigned at) { return run(2, at); }, 2, 8192, {}, 0, 0});
    Bytes value(16);
    forge::put32(value, 0, tag);
    forge::put16(value, 8, offset);
    forge::put16(value, 10, static_cast<std::uint16_t>(target.size() * 2));
    value.resize(16 + more_flags);
    for (const char c : target) value = value + Bytes{static_cast<std::uint8_t>(c), 0};
    forge::put16(value, 4, static_cast<std::uint16_t>(value.size() - 8));
    Bytes a(24);
    forge::put32(a, 0, 0xC0);
    forge::put32(a, 16, static_cast<std::uint32_t>(value.size()));
    forge::put16(a, 20, 24);
    a = a + value;
    a.resize((a.size() + 7) / 8 * 8);
    put_attribute(volume, std::move(a));
    return volume;
}

constexpr std::uint32_t junction = 0xA0000003U, symlink = 0xA000000CU;

TEST(NtfsLinks, LeadWhereTheirNameSays) {
    const struct {
        std::uint32_t tag;
        const char* written;
        const char* target;
    } cases[] = {{junction, R"(\??\C:\Windows\Boot)", "/Windows/Boot"},
                 {junction, R"(\??\D:\)", "/"},
                 {symlink, R"(..\Boot\store)", "../Boot/store"},
                 {symlink, R"(store)", "store"}};
    for (const auto& one : cases) {
        const auto volume = link_with(one.tag, one.written, one.tag == symlink ? 4 : 0);
        const auto fs = volume.open();
        const auto about = fs->stat(volume.file);
        ASSERT_TRUE(about);
        EXPECT_EQ(about->type, FileType::Symlink) << one.written;
        const auto target = fs->link_target(volume.file);
        ASSERT_TRUE(target) << target.error().text();
        EXPECT_EQ(*target, one.target);
    }
}

TEST(NtfsLinks, WhoseNameLiesOutsideAreErrors) {
    // The name ends with the value, or two bytes behind it.
    EXPECT_TRUE(link_with(junction, "x", 0).open()->link_target(link_with(junction, "x", 0).file));
    const auto outside = link_with(junction, "x", 0, 2);
    const auto refused = outside.open()->link_target(outside.file);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Malformed);
    EXPECT_EQ(refused.error().what, "a link whose name lies outside it");
    // Another kind of reparse point, and none, are no links.
    const auto other = link_with(0x80000013U, "x", 0);
    EXPECT_EQ(other.open()->stat(other.file)->type, FileType::Regular);
    const auto none = volume_with({forge::noise(8192, 4), [](unsigned at) { return run(2, at); }, 2, 8192, {}, 0, 0});
    const auto no_link = none.open()->link_target(none.file);
    ASSERT_FALSE(no_link);
    EXPECT_EQ(no_link.error().kind, ErrorKind::WrongType);
}

}  // namespace
