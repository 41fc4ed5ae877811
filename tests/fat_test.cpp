// SPDX-License-Identifier: MIT
// FAT against the generator's own writer, and against damage.
#include <ctime>

#include "files/fat.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

forge::Tree pantry() {
    forge::Tree tree;
    tree.file("/README.TXT", "short name\n");
    tree.file("/a name that is much too long for eleven.config", "long name\n");
    tree.file("/EFI/BOOT/BOOTX64.EFI", forge::noise(70000, 5));
    for (int i = 0; i < 40; ++i)
        tree.file("/loader/entries/guest-room-number-" + std::to_string(i) + ".conf",
                  "title " + std::to_string(i) + "\n");
    tree.file("/EMPTY", "");
    return tree;
}

std::shared_ptr<const FileSystem> opened(const Bytes& image, Reader reader = Reader::Loader) {
    const auto fs = open_file_system(support::source_of(image, "d1p1"), reader);
    EXPECT_TRUE(fs) << (fs ? "" : fs.error().text());
    return fs ? *fs : nullptr;
}

class Sizes : public testing::TestWithParam<std::uint64_t> {};
TEST_P(Sizes, EveryFileComesBack) {
    const auto tree = pantry();
    forge::FatOptions options;
    options.size = GetParam();
    options.label = "PANTRY";
    const auto image = forge::make_fat(tree, options);
    const auto fs = opened(image.bytes);
    ASSERT_NE(fs, nullptr);
    EXPECT_EQ(fs->info().name(), GetParam() > (8U << 20U) ? "fat16" : "fat12");
    EXPECT_EQ(fs->info().label, "PANTRY");
    EXPECT_EQ(fs->info().uuid, "A1B0-F00A");
    for (const auto& [path, node] : tree.nodes()) {
        if (node.kind != forge::Node::Kind::File) continue;
        const auto there = resolve(*fs, path);
        ASSERT_TRUE(there) << path << ": " << there.error().text();
        const auto file = fs->open(there->file.id, path);
        ASSERT_TRUE(file) << path << ": " << file.error().text();
        const auto bytes = (*file)->bytes(0, (*file)->size());
        ASSERT_TRUE(bytes);
        EXPECT_EQ(*bytes, node.content) << path;
    }
    const auto entries = resolve(*fs, "/loader/entries");
    ASSERT_TRUE(entries);
    const auto list = fs->list(entries->file.id);
    ASSERT_TRUE(list);
    EXPECT_EQ(list->size(), 42U);  // with . and ..
}
INSTANTIATE_TEST_SUITE_P(Fat, Sizes,
                         testing::Values(std::uint64_t{1} << 20U, std::uint64_t{4} << 20U, std::uint64_t{32} << 20U));

TEST(Fat, NamesIgnoreCaseAndTheShortFormWorksToo) {
    const auto fs = opened(forge::make_fat(pantry()).bytes);
    ASSERT_NE(fs, nullptr);
    for (const char* path : {"/readme.txt", "/efi/boot/bootx64.efi", "/A NAME that is MUCH too long for eleven.CONFIG",
                             "/loader/../EFI/./BOOT"})
        EXPECT_TRUE(resolve(*fs, path)) << path;
    EXPECT_FALSE(resolve(*fs, "/EFI/BOOT/BOOTIA32.EFI"));
}

/// The pieces of a long name lie before its short one, from the last to the first, each with the short name's checksum
/// (Microsoft's FAT specification, section 7): one that does not fit makes the file known by its short name alone.
TEST(Fat, ALongNameThatIsNotWholeCountsForNothing) {
    const std::string wanted = "a name that is much too long for eleven.config";
    const auto image = forge::make_fat(forge::Tree().file("/" + wanted, "beds\n"));
    std::vector<std::size_t> pieces;  // in the root: the last one of the name first
    for (std::size_t at = 0; at + 32 <= image.bytes.size() && pieces.size() < 4; at += 32)
        if (image.bytes[at + 11] == 0x0F && (image.bytes[at] & 0x3FU) <= 4) pieces.push_back(at);
    ASSERT_EQ(pieces.size(), 4U);
    ASSERT_EQ(image.bytes[pieces[0]], 0x44);
    const auto names = [&](const std::vector<std::pair<std::size_t, std::uint8_t>>& changes) {
        auto bytes = image.bytes;
        for (const auto& [at, value] : changes) bytes[at] = value;
        const auto fs = opened(bytes);
        const auto list = fs->list(resolve(*fs, "/")->file.id);
        return list && list->size() == 1 ? list->at(0).name : std::string("(not one file)");
    };
    EXPECT_EQ(names({}), wanted);
    const auto alone = names({{pieces[0], 0x45}});
    EXPECT_NE(alone, "(not one file)") << "the file itself is there";
    EXPECT_LE(alone.size(), 12U) << "a piece that should follow is missing: " << alone;
    const std::uint8_t sum = image.bytes[pieces[0] + 13];
    const struct {
        std::size_t at;
        std::uint8_t value;
    } rows[] = {{pieces[0], 0x43},      {pieces[0], 0x04},     {pieces[0], 0x40},      {pieces[0], 0x55},
                {pieces[1], 0x02},      {pieces[1], 0x04},     {pieces[2], 0x01},      {pieces[2], 0x03},
                {pieces[3], 0x03},      {pieces[3], 0x02},     {pieces[0] + 13, 0x00}, {pieces[1] + 13, 0x00},
                {pieces[2] + 13, 0x00}, {pieces[3] + 13, 0x00}};
    ASSERT_NE(sum, 0);
    for (const auto& row : rows) EXPECT_EQ(names({{row.at, row.value}}), alone) << row.at << " " << int{row.value};
    // A zero in the first place is no piece's number: the directory ends there (section 6).
    EXPECT_EQ(names({{pieces[3], 0x00}}), "(not one file)");
    // All four with another checksum, of another short name.
    EXPECT_EQ(names({{pieces[0] + 13, 1}, {pieces[1] + 13, 1}, {pieces[2] + 13, 1}, {pieces[3] + 13, 1}}),
              sum == 1 ? wanted : alone);
}

TEST(Fat, DatesAreThoseOfTheCalendar) {
    EXPECT_EQ(fat_time(0, 0xFFFF), 0) << "no date";
    for (int year = 0; year < 128; ++year)
        for (int month = 1; month <= 12; ++month)
            for (const int day : {1, 2, 15, 28}) {
                std::tm parts{};
                parts.tm_year = 80 + year;
                parts.tm_mon = month - 1;
                parts.tm_mday = day;
                parts.tm_hour = (year + month) % 24;
                parts.tm_min = (day * 7 + month) % 60;
                parts.tm_sec = day % 30 * 2;
                const auto date = static_cast<std::uint16_t>(year << 9 | month << 5 | day);
                const auto time =
                    static_cast<std::uint16_t>(parts.tm_hour << 11 | parts.tm_min << 5 | parts.tm_sec / 2);
                ASSERT_EQ(fat_time(date, time), ::timegm(&parts)) << year << " " << month << " " << day;
            }
    // What no calendar has becomes the nearest that one has.
    const auto of = [](int month, int day) {
        return fat_time(static_cast<std::uint16_t>(40 << 9 | month << 5 | day), 0);
    };
    EXPECT_EQ(of(0, 5), of(1, 5));
    EXPECT_EQ(of(13, 5), of(12, 5));
    EXPECT_EQ(of(15, 5), of(12, 5));
    EXPECT_EQ(of(7, 0), of(7, 1));
    EXPECT_EQ(of(3, 1), of(2, 28) + 2 * 86400) << "2020 has a 29th of February";
}

/// The cluster of a file, and the place of its entry in the first table.
std::size_t table_entry(const forge::FatImage& image, const std::string& path) {
    const auto fat = 4U * 512U;
    const auto sectors = image.bytes[22] | image.bytes[23] << 8U;
    const std::size_t data = 4 + 2 * static_cast<std::size_t>(sectors) + 32;
    const std::size_t cluster = (image.first_sector.at(path) - data) / 4 + 2;
    return fat + cluster * 2;
}

TEST(Fat, ChainsThatLeaveTheVolumeEndOrTurnBackAreErrors) {
    forge::FatOptions options;
    options.size = 32U << 20U;
    const auto good = forge::make_fat(pantry(), options);
    const std::string path = "/EFI/BOOT/BOOTX64.EFI";
    const auto at = table_entry(good, path);
    for (const std::uint16_t value :
         {std::uint16_t{0}, std::uint16_t{1}, std::uint16_t{0xFFF0}, std::uint16_t{0xFFFF}}) {
        auto image = good.bytes;
        forge::put16(image, at, value);
        const auto fs = opened(image);
        const auto file = resolve(*fs, path);
        ASSERT_TRUE(file);
        EXPECT_FALSE(fs->open(file->file.id, path)) << value;
        EXPECT_FALSE(fs->remarks().empty()) << "the second table still has the right chain";
    }
    // A circle is longer than any file: the size ends the reading.
    auto image = good.bytes;
    forge::put16(image, at, static_cast<std::uint16_t>((at - 2048) / 2));
    const auto fs = opened(image);
    const auto file = resolve(*fs, path);
    ASSERT_TRUE(file);
    EXPECT_TRUE(fs->open(file->file.id, path));
}

TEST(Fat, ADirectoryWhoseChainIsACircleIsRefused) {
    forge::FatOptions options;
    options.size = 32U << 20U;
    auto good = forge::make_fat(pantry(), options);
    // The directory /EFI lies one cluster before /EFI/BOOT, whose first file is known: find its own entry by value.
    auto image = good.bytes;
    const auto sectors = static_cast<std::size_t>(image[22] | image[23] << 8U);
    const std::size_t root = (4 + 2 * sectors) * 512;
    for (std::size_t i = root; i < root + 16384; i += 32)
        if (image[i + 11] == 0x10) {
            const std::size_t cluster = image[i + 26] | std::size_t{image[i + 27]} << 8U;
            forge::put16(image, 2048 + cluster * 2, static_cast<std::uint16_t>(cluster));
        }
    const auto fs = opened(image);
    EXPECT_FALSE(resolve(*fs, "/loader/nothing"));
}

/// SYSLINUX, started from such a volume in an emulated PC, reads on: its names lie in the first cluster of the root.
TEST(Fat, ADirectoryIsReadAsFarAsItsChainCanBeFollowed) {
    forge::FatOptions options;
    options.size = 32U << 20U;
    auto image = forge::make_fat(pantry(), options).bytes;
    const auto whole = opened(image);
    const auto entries = resolve(*whole, "/loader/entries");
    ASSERT_TRUE(entries);
    const auto pieces = whole->extents(entries->file.id);
    ASSERT_TRUE(pieces);
    const auto sectors = static_cast<std::size_t>(image[22] | image[23] << 8U);
    const std::uint64_t data = (4 + 2 * sectors) * 512 + 16384;
    const auto first = static_cast<std::size_t>((pieces->front().base_offset - data) / 2048 + 2);
    ASSERT_NE(image[2048 + 2 * first], 0) << "a chain of several clusters";
    forge::put16(image, 2048 + 2 * first, 0);
    const auto loader = opened(image);
    EXPECT_TRUE(resolve(*loader, "/loader/entries/guest-room-number-0.conf"));
    const auto late = resolve(*loader, "/loader/entries/guest-room-number-39.conf");
    ASSERT_FALSE(late);
    EXPECT_EQ(late.error().kind, ErrorKind::Malformed) << "not known to be absent";
    // Linux measures a directory first.
    EXPECT_FALSE(resolve(*opened(image, Reader::Kernel), "/loader/entries/guest-room-number-0.conf"));
}

TEST(Fat, LoadersNeedTheFirstTableTheKernelDoesNot) {
    forge::FatOptions options;
    options.size = 32U << 20U;
    auto image = forge::make_fat(pantry(), options).bytes;
    std::fill_n(image.begin() + 2048, 512, std::uint8_t{0});
    EXPECT_FALSE(open_file_system(support::source_of(image), Reader::Grub));
    EXPECT_TRUE(open_file_system(support::source_of(image), Reader::Loader));
    EXPECT_TRUE(open_file_system(support::source_of(image), Reader::Kernel));
}

/// A volume that was cut short claims free clusters that it does not have.
TEST(Fat, FilesAreAddedWhereTheVolumeIs) {
    forge::Tree tree;
    tree.file("/a", forge::noise(30000, 1));
    forge::FatOptions options;
    options.size = 400U << 10U;
    auto image = forge::make_fat(tree, options).bytes;
    const forge::Bytes content(3000, 'x');
    const auto edits_in = [&](std::size_t size) {
        const auto fs = open_file_system(
            memory_source({image.begin(), image.begin() + static_cast<std::ptrdiff_t>(size)}, "d1", 1), Reader::Kernel);
        return fs ? (*fs)->with_file((*fs)->root(), "new.txt", content) : tl::unexpected(fs.error());
    };
    ASSERT_TRUE(edits_in(image.size()));
    const auto found = std::find_if(image.rbegin(), image.rend(), [](std::uint8_t b) { return b != 0; });
    const auto used = (static_cast<std::size_t>(image.rend() - found) + 2047) / 2048 * 2048;
    bool refused = false;
    for (std::size_t size = used; size < used + 8192; size += 512) {
        const auto edits = edits_in(size);
        if (!edits) {
            EXPECT_EQ(edits.error().kind, ErrorKind::TooLarge);
            refused = true;
            continue;
        }
        for (const auto& edit : *edits) EXPECT_LE(edit.offset + edit.bytes.size(), size);
    }
    EXPECT_TRUE(refused);
}

TEST(BootSector, IsComparedWithItsPartition) {
    auto b = demo::back_office();
    auto disk = b.second();
    const std::size_t volume = (2048 + 16384) * std::size_t{512};
    const auto codes = [&](const Bytes& image) {
        const auto machine = support::machine_of(image);
        std::vector<Code> out;
        for (const auto& finding : check_boot_sector(machine.disks.front(), *machine.volume(1, 2)).findings)
            out.push_back(finding.code);
        return out;
    };
    EXPECT_TRUE(codes(disk).empty());
    forge::put32(disk, volume + 28, 63);
    EXPECT_EQ(codes(disk), std::vector{Code::BootSectorHidden});
    const auto machine = support::machine_of(disk);
    EXPECT_EQ(check_boot_sector(machine.disks.front(), *machine.volume(1, 2)).code, "SYSLINUX");
    const auto view = view_sector(machine.disks.front(), volume / 512);
    ASSERT_TRUE(view);
    EXPECT_TRUE(std::any_of(view->fields.begin(), view->fields.end(), [](const Field& f) {
        return f.name == "hidden_sectors" && f.meaning == "should be 18432";
    }));
}

TEST(Names, OfAPartitionInEveryConvention) {
    const auto machine = support::machine_of(demo::back_office().second());
    const auto& disk = machine.disks.front();
    const auto names = partition_names(disk, *disk.table.find(2));
    EXPECT_EQ(names.linux_name, "sda2");
    EXPECT_EQ(names.grub, "hd0,msdos2");
    EXPECT_EQ(names.legacy, "hd0,1");
    EXPECT_EQ(names.arc, "multi(0)disk(0)rdisk(0)partition(2)");
}

TEST(Gap, SaysWhatLiesInIt) {
    const auto machine = support::machine_of(demo::back_office().first());
    const auto& disk = machine.disks.front();
    const auto all = stretches(disk.table, disk.source->size());
    EXPECT_NE(describe_gap(disk, all.front()).find("GRUB 2's core image"), std::string::npos);
    EXPECT_NE(describe_gap(disk, all.back()).find("zeros"), std::string::npos);
}

}  // namespace
