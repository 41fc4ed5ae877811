// SPDX-License-Identifier: MIT
// The table of described structures, and sectors that are known by what lies in them.
#include <fmt/format.h>
#include <algorithm>
#include <filesystem>
#include <fstream>
#include <set>

#include "support.hpp"

#include "demo_disks.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

const Field* field(const SectorView& view, std::string_view name) {
    const auto found = std::ranges::find(view.fields, name, &Field::name);
    return found != view.fields.end() ? &*found : nullptr;
}

/// "value (meaning)" of a field; "absent".
std::string told(const SectorView& view, std::string_view name) {
    const auto* f = field(view, name);
    if (f == nullptr) return "absent";
    return f->value + (f->meaning.empty() ? "" : " (" + f->meaning + ")");
}

Disk disk_of(Bytes bytes) { return inspect_disk(memory_source(std::move(bytes), "d1", 1), 1, "d1"); }

std::size_t find(const Bytes& in, std::string_view mark, std::size_t step = 512) {
    for (std::size_t at = 0; at + mark.size() <= in.size(); at += step)
        if (std::equal(mark.begin(), mark.end(), in.begin() + static_cast<std::ptrdiff_t>(at),
                       [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }))
            return at;
    ADD_FAILURE() << mark << " is nowhere";
    return 0;
}

}  // namespace

TEST(Structures, EveryByteOfEachKindBelongsToOneField) {
    std::set<std::string_view> names;
    ASSERT_GT(structure_kinds().size(), 100U);
    for (const auto& kind : structure_kinds()) {
        SCOPED_TRACE(std::string(kind.name));
        EXPECT_TRUE(names.insert(kind.name).second) << "twice";
        EXPECT_FALSE(kind.meaning.empty());
        Bytes bytes(kind.size);
        for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<std::uint8_t>(i * 7 + 1);
        std::uint64_t next = 1000;
        for (const auto& f : kind.fields(bytes, 1000)) {
            EXPECT_EQ(f.offset, next) << f.name;
            ASSERT_LE(f.offset - 1000 + f.size, bytes.size()) << f.name;
            EXPECT_TRUE(
                std::equal(f.raw.begin(), f.raw.end(), bytes.begin() + static_cast<std::ptrdiff_t>(f.offset - 1000)))
                << f.name;
            EXPECT_EQ(f.raw.size(), f.size);
            EXPECT_FALSE(f.value.empty()) << f.name;
            next = f.offset + f.size;
        }
        EXPECT_EQ(next, 1000 + kind.size);
        bytes.pop_back();
        EXPECT_TRUE(kind.fields(bytes, 0).empty()) << "one byte too few";
        if (kind.mark.empty()) continue;
        Bytes marked(std::max(kind.size, kind.mark_at + kind.mark.size()));
        EXPECT_FALSE(kind.marks(marked));
        std::ranges::copy(kind.mark, marked.begin() + static_cast<std::ptrdiff_t>(kind.mark_at));
        EXPECT_TRUE(kind.marks(marked));
        marked[kind.mark_at] ^= 1U;
        EXPECT_FALSE(kind.marks(marked));
    }
}

TEST(Structures, NothingThatIsDescribedIsLeftOut) {
    std::size_t described = 0;
    for (const auto& file : std::filesystem::directory_iterator(SOURCE_DIR "/src/ondisk")) {
        std::ifstream in(file.path());
        const std::string text{std::istreambuf_iterator<char>(in), {}};
        constexpr std::string_view lead = "\nBOOST_DESCRIBE_STRUCT(";
        for (auto at = text.find(lead); at != std::string::npos; at = text.find(lead, at + 1)) {
            std::string name;
            for (std::size_t i = at + lead.size(); text[i] != ','; ++i) {
                const bool large = std::isupper(static_cast<unsigned char>(text[i])) != 0;
                const bool behind_large = !name.empty() && std::isupper(static_cast<unsigned char>(text[i - 1])) != 0;
                if (large && !name.empty() && !behind_large) name += '-';
                name += static_cast<char>(std::tolower(static_cast<unsigned char>(text[i])));
            }
            ++described;
            EXPECT_NE(structure_kind(name), nullptr) << name << " of " << file.path();
        }
    }
    EXPECT_EQ(described, structure_kinds().size());
    EXPECT_EQ(structure_kind("gpt"), nullptr);
}

TEST(SectorAt, BothCopiesOfTheGptAreTakenApart) {
    auto made = demo::front_desk();
    made.disk.gpt = true;
    const Disk disk = disk_of(made.build());
    const std::uint64_t last = disk.source->size() / 512 - 1;
    for (const std::uint64_t lba : {std::uint64_t{1}, last}) {
        const auto view = view_sector(disk, lba);
        ASSERT_TRUE(view);
        EXPECT_EQ(view->kind, "header of a GUID partition table");
        EXPECT_EQ(told(*view, "my_lba"), fmt::format("{0} (0x{0:x})", lba));
        EXPECT_EQ(told(*view, "disk_guid"), disk.table.disk_guid);
    }
    const auto entries = view_sector(disk, 2);
    ASSERT_TRUE(entries);
    EXPECT_EQ(entries->kind, "entries of the primary GUID partition table, from number 1 on");
    EXPECT_EQ(told(*entries, "entry 1.first_lba"), "2048 (0x800)");
    EXPECT_TRUE(entries->messages.empty()) << "its bytes are no text";
    EXPECT_EQ(told(*entries, "entry 1.type"), "0fc63daf-8483-4772-8e79-3d69d8477de4 (Linux data)");
    EXPECT_EQ(field(*entries, "entry 1.first_lba")->offset, 32U);
    const auto later = view_sector(disk, 3);
    EXPECT_EQ(later->kind, "zeros");
    const auto backup = view_sector(disk, last - 32);
    EXPECT_EQ(backup->kind, "entries of the backup GUID partition table, from number 1 on");
}

TEST(SectorAt, NtfsRecordsHivesAndImagesAreTakenApart) {
    const auto bytes = demo::office_pc().build();
    const Disk disk = disk_of(bytes);
    const auto record = view_sector(disk, find(bytes, "FILE") / 512);
    ASSERT_TRUE(record);
    EXPECT_EQ(record->kind, "file record of NTFS");
    EXPECT_EQ(told(*record, "flags"), "1 (0x1) (in use)");
    EXPECT_EQ(told(*record, "attribute 0.type"), "16 (0x10)");
    EXPECT_EQ(told(*record, "attribute 2.non_resident"), "1 (0x01)");
    EXPECT_EQ(told(*record, "attribute 3.type"), "176 (0xb0)");
    EXPECT_EQ(field(*record, "attribute 4.type"), nullptr) << "the end's mark is none";
    const auto hive = view_sector(disk, find(bytes, "regf") / 512);
    EXPECT_EQ(hive->kind, "base block of a registry hive");
    EXPECT_EQ(told(*hive, "major"), "1 (0x1)");
    const auto bin = view_sector(disk, find(bytes, "hbin") / 512);
    EXPECT_EQ(bin->kind, "bin of a registry hive");
    EXPECT_EQ(told(*bin, "cell 1.mark"), "\"nk\"");
    const auto image = view_sector(disk, find(bytes, "MZ") / 512);
    EXPECT_EQ(image->kind, "headers of a PE image");
    EXPECT_EQ(told(*image, "file.mark"), "\"PE\"");
    EXPECT_NE(told(*image, "optional.magic"), "absent");
    EXPECT_NE(told(*image, "section 0.name"), "absent");
}

TEST(SectorAt, DirectoriesOfFatAreTakenApart) {
    const auto bytes = demo::kiosk().build();
    const Disk disk = disk_of(bytes);
    const auto root = view_sector(disk, find(bytes, "KIOSK      ", 32) / 512);
    ASSERT_TRUE(root);
    EXPECT_EQ(root->kind, "directory entries of d1p1:/");
    EXPECT_EQ(told(*root, "entry 1.name"), "\"EFI        \"");
    EXPECT_EQ(told(*root, "entry 1.attributes"), "16 (0x10)");
    EXPECT_EQ(told(*root, "entry 2.order"), "65 (0x41)") << "a piece of a long name";
    const auto deeper = view_sector(disk, find(bytes, "BOOTX64 EFI", 32) / 512);
    ASSERT_TRUE(deeper);
    EXPECT_EQ(deeper->kind, "directory entries of d1p1:/EFI/BOOT");
}

TEST(SectorAt, AStoreOfVariablesIsKnownByItself) {
    const auto stories = demo::kiosk_stories();
    const auto story = std::ranges::find(stories, "kiosk", &demo::KioskStory::name);
    ASSERT_NE(story, stories.end());
    const Disk disk = disk_of(story->variables(story->disk()));
    const auto view = view_sector(disk, 0);
    ASSERT_TRUE(view);
    EXPECT_EQ(view->kind, "head of a firmware volume");
    EXPECT_EQ(told(*view, "store.format"), "90 (0x5a)");
    EXPECT_EQ(told(*view, "variable 0.mark"), "21930 (0x55aa)");
    EXPECT_EQ(told(*view, "variable 0.name_size"), "20 (0x14) (BootOrder)");
}

TEST(SectorAt, AnyKindMayBeAskedForAnywhere) {
    const Disk disk = disk_of(demo::front_desk().build());
    const auto* kind = structure_kind("mbr-entry");
    ASSERT_NE(kind, nullptr);
    const auto view = view_structure(*disk.source, 446, *kind, 4);
    ASSERT_TRUE(view);
    EXPECT_EQ(view->place, "d1@446+64");
    EXPECT_EQ(told(*view, "[0].status"), "128 (0x80)");
    EXPECT_EQ(field(*view, "[3].sectors")->offset, 60U);
    const auto wrong = view_structure(*disk.source, 0, *structure_kind("gpt-header"));
    EXPECT_EQ(wrong->kind, "header of a GUID partition table, whose mark is not there");
    EXPECT_EQ(view_structure(*disk.source, disk.source->size() - 8, *kind).error().kind, ErrorKind::OutOfRange);
    EXPECT_TRUE(view_structure(*disk.source, 0, *kind, 65536));
    EXPECT_EQ(view_structure(*disk.source, 0, *kind, 65537).error().kind, ErrorKind::TooLarge);
}

TEST(SectorAt, TheCommandTakesFilesAndSaysWhatItKnows) {
    const support::Folder folder;
    const auto image = folder.write("desk.img", demo::front_desk().build());
    const std::string tool = TOOL_PATH " sector ";
    const auto kinds = support::shell(tool + "--kinds");
    EXPECT_EQ(kinds.status, 0);
    EXPECT_NE(kinds.out.find("linux-setup"), std::string::npos);
    const auto setup = support::shell(tool + image + " --at d1p1:/vmlinuz --byte 497 --as linux-setup");
    EXPECT_EQ(setup.status, 0) << setup.out;
    EXPECT_NE(setup.out.find("set-up header of a Linux kernel"), std::string::npos);
    EXPECT_NE(setup.out.find("\"HdrS\""), std::string::npos) << setup.out;
    const auto unknown = support::shell(tool + image + " --as mbr-entrance");
    EXPECT_EQ(unknown.status, 2);
    EXPECT_NE(unknown.out.find("there is no kind of structure “mbr-entrance”; --kinds lists them"), std::string::npos);
    const auto nothing = support::shell(tool);
    EXPECT_NE(nothing.status, 0);
    EXPECT_NE(nothing.out.find("IMAGE is required"), std::string::npos);
}
