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
#include "ondisk/describe.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

const Field* field(const SectorView& view, std::string_view name) {
    const auto found = std::ranges::find(view.fields, name, &Field::name);
    return found != view.fields.end() ? &*found : nullptr;
}

/// Bytes for people: text where all of it is, up to zeros at its end; else numbers, 16 at most.
TEST(Structures, BytesAreShownAsTextOrNumbers) {
    using ondisk::detail::describe_bytes;
    EXPECT_EQ(describe_bytes(Bytes(9)), "all zero (9 bytes)");
    EXPECT_EQ(describe_bytes(Bytes{' ', '~', 0, 0}), "\" ~\"");
    EXPECT_EQ(describe_bytes(Bytes{'a', 0x7F}), "61 7f");
    EXPECT_EQ(describe_bytes(Bytes{'a', 0x1F}), "61 1f");
    EXPECT_EQ(describe_bytes(Bytes{'a', 0x80, 0}), "61 80 00");
    EXPECT_EQ(describe_bytes(Bytes{'a', 0, 'b'}), "61 00 62");
    EXPECT_EQ(describe_bytes(Bytes(16, 0xEE)), "ee ee ee ee ee ee ee ee ee ee ee ee ee ee ee ee");
    EXPECT_EQ(describe_bytes(Bytes(17, 0xEE)), "ee ee ee ee ee ee ee ee ee ee ee ee ee ee ee ee … (17 bytes)");
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
    // What follows an attribute's head depends on whether its content lies here; each begins where the last one ends.
    std::uint64_t at = forge::get32(record->bytes, 20) & 0xFFFFU;
    for (const int number : {0, 1, 2, 3}) {
        const auto prefix = fmt::format("attribute {}.", number);
        ASSERT_NE(field(*record, prefix + "type"), nullptr) << number;
        EXPECT_EQ(field(*record, prefix + "type")->offset, at) << number;
        const bool here = record->bytes.at(at + 8) == 0;
        const auto* content = field(*record, prefix + (here ? "offset" : "first_vcn"));
        ASSERT_NE(content, nullptr) << number;
        EXPECT_EQ(content->offset, at + (here ? 20 : 16)) << number;
        EXPECT_EQ(field(*record, prefix + (here ? "first_vcn" : "offset")), nullptr) << number;
        at += forge::get32(record->bytes, at + 4);
    }
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
    // The sections' heads of 40 bytes follow the optional header (PE format, "Section Table").
    const std::uint64_t pe = forge::get32(image->bytes, 60);
    const std::uint64_t sections = pe + 24 + (forge::get32(image->bytes, pe + 20) & 0xFFFFU);
    const unsigned count = forge::get32(image->bytes, pe + 6) & 0xFFFFU;
    ASSERT_GE(count, 1U);
    for (unsigned i = 0; i < count && sections + (i + 1) * 40 <= 512; ++i) {
        ASSERT_NE(field(*image, fmt::format("section {}.name", i)), nullptr) << i;
        EXPECT_EQ(field(*image, fmt::format("section {}.name", i))->offset, sections + i * 40) << i;
    }
    EXPECT_EQ(field(*image, fmt::format("section {}.name", count)), nullptr);
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

// --- by which bytes each kind is known
// --------------------------------------------------------------------------------

TEST(StructureMarks, StandWhereTheSystemsOwnMakersPutThem) {
    const struct {
        const char* command;
        std::uint64_t size;
        std::vector<std::pair<const char*, std::uint64_t>> kinds;
    } makers[] = {
        {"echo label: gpt | sfdisk -q {}", 4U << 20U, {{"gpt-header", 512}, {"gpt-header", (4U << 20U) - 512}}},
        {"mkfs.ext4 -q -F {}", 8U << 20U, {{"ext-super", 1024}}},
        {"mke2fs -q -F -b 4096 -O journal_dev {}", 8U << 20U, {{"ext-super", 1024}, {"journal-super", 4096}}},
        {"mkfs.vfat -F 32 {}", 40U << 20U, {{"fat-info", 512}}},
        {"mkntfs -q -F -c 4096 {}", 4U << 20U, {{"ntfs-boot", 0}, {"ntfs-record", 4 * 4096}}},
        {"mkfs.exfat -q {}", 8U << 20U, {{"exfat-boot", 0}}},
        {"mkfs.xfs -q -f {}", 320U << 20U, {{"xfs-super", 0}, {"xfs-free-space", 512}, {"xfs-inodes", 1024}}},
        {"mkfs.btrfs -q -f {}", 128U << 20U, {{"btrfs-super", 65536}}},
        {"mkfs.f2fs -q -f {}", 64U << 20U, {{"f2fs-super", 1024}}},
        {"mkfs.nilfs2 -q -f {}", 136U << 20U, {{"nilfs-super", 1024}}},
        {"printf x | cryptsetup -q luksFormat --type luks1 --pbkdf-force-iterations 1000 {} -",
         8U << 20U,
         {{"luks1-header", 0}}},
        {"printf x | cryptsetup -q luksFormat --type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 {} -",
         32U << 20U,
         {{"luks2-header", 0}}},
        {"mksquashfs /usr/include/linux/limits.h {} -quiet -no-progress -noappend", 0, {{"squashfs-super", 0}}},
    };
    std::size_t made = 0;
    for (const auto& maker : makers) {
        const support::Folder folder;
        const auto image = folder.file("v.img");
        if (maker.size != 0) {
            std::ofstream(image).close();
            std::filesystem::resize_file(image, maker.size);
        }
        std::string command = maker.command;
        command.replace(command.find("{}"), 2, image);
        if (support::shell("PATH=$PATH:/sbin:/usr/sbin; " + command).status != 0) continue;
        ++made;
        const auto source = open_image(image, 1);
        ASSERT_TRUE(source) << source.error().text();
        for (const auto& [name, at] : maker.kinds) {
            const auto* kind = structure_kind(name);
            ASSERT_NE(kind, nullptr) << name;
            const auto bytes =
                (*source)->bytes(at, kind->size + 1 <= (*source)->size() - at ? kind->size + 1 : kind->size);
            ASSERT_TRUE(bytes);
            EXPECT_TRUE(kind->marks(*bytes)) << name << " of " << command;
            EXPECT_FALSE(kind->marks(std::span(*bytes).subspan(1))) << name << ", a byte further on";
        }
    }
    EXPECT_GE(made, 3U) << "hardly any maker of file systems is installed";
}

/// What none of those makes, by hand: Linux drivers/md/md_p.h and lvm2's lib/format_text/layout.h, lib/label/label.h;
/// ECMA-119 8.1; [NTFS] INDX; the kernel's fs/xfs/libxfs/xfs_format.h, xfs_da_format.h, xfs_log_format.h.
TEST(StructureMarks, OfTheOthersAreThoseOfTheirHeaders) {
    const struct {
        const char* kind;
        std::size_t at;
        Bytes bytes;
    } marks[] = {{"raid-super", 0, {0xFC, 0x4E, 0x2B, 0xA9}},
                 {"lvm-label", 0, forge::to_bytes("LABELONE")},
                 {"lvm-metadata-head", 4, forge::to_bytes(" LVM2 x[5A%r0N*>")},
                 {"iso-volume-descriptor", 0, {1, 'C', 'D', '0', '0', '1'}},
                 {"iso-boot-record", 0, {0, 'C', 'D', '0', '0', '1'}},
                 {"ntfs-index-block", 0, forge::to_bytes("INDX")},
                 {"bitlocker-block", 0, forge::to_bytes("-FVE-FS-")},
                 {"xfs-tree-head", 0, forge::to_bytes("BMA3")},
                 {"xfs-group-tree", 0, forge::to_bytes("IAB3")},
                 {"xfs-directory-head", 0, forge::to_bytes("XDB3")},
                 {"xfs-link-head", 0, forge::to_bytes("XSLM")},
                 {"xfs-log-record", 0, {0xFE, 0xED, 0xBA, 0xBE}}};
    for (const auto& mark : marks) {
        const auto* kind = structure_kind(mark.kind);
        ASSERT_NE(kind, nullptr) << mark.kind;
        Bytes bytes(512);
        std::ranges::copy(mark.bytes, bytes.begin() + static_cast<std::ptrdiff_t>(mark.at));
        EXPECT_TRUE(kind->marks(bytes)) << mark.kind;
        // Each byte of it counts, and it counts only there.
        for (std::size_t i = 0; i < mark.bytes.size(); ++i) {
            auto other = bytes;
            other[mark.at + i] ^= 0x40U;
            EXPECT_FALSE(kind->marks(other)) << mark.kind << " " << i;
        }
        bytes.insert(bytes.begin(), 0x55);
        EXPECT_FALSE(kind->marks(bytes)) << mark.kind;
        EXPECT_FALSE(kind->marks(std::span(bytes).first(mark.at))) << mark.kind << ", cut before it";
    }
}
