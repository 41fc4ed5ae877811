// SPDX-License-Identifier: MIT
// ext2/3/4: superblock, features, block groups, and what the kernel's driver refuses to mount (fs/ext4/super.c).
#include "files/ext.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "files/ext_fs.hpp"
#include "files/ext_journal.hpp"
#include "files/features.hpp"
#include "files/stored.hpp"

namespace herberge {

namespace ext {

namespace {

constexpr std::uint64_t super_offset = 1024;
constexpr std::uint16_t super_magic = 0xEF53;

struct FeatureName {
    std::uint32_t bit;
    std::string_view name;
};

constexpr FeatureName compat_names[] = {
    {0x1, "dir_prealloc"},    {0x2, "imagic_inodes"},  {0x4, "has_journal"},     {0x8, "ext_attr"},
    {0x10, "resize_inode"},   {0x20, "dir_index"},     {0x200, "sparse_super2"}, {0x400, "fast_commit"},
    {0x800, "stable_inodes"}, {0x1000, "orphan_file"},
};
constexpr FeatureName ro_compat_names[] = {
    {0x1, "sparse_super"},       {0x2, "large_file"},   {0x8, "huge_file"},  {0x10, "gdt_csum"},
    {0x20, "dir_nlink"},         {0x40, "extra_isize"}, {0x100, "quota"},    {0x200, "bigalloc"},
    {0x400, "metadata_csum"},    {0x1000, "read-only"}, {0x2000, "project"}, {0x8000, "verity"},
    {0x10000, "orphan_present"},
};

void name_bits(std::vector<std::string>& out, std::uint32_t bits, std::span<const FeatureName> names,
               std::string_view family) {
    for (const auto& [bit, name] : names) {
        if ((bits & bit) != 0) out.emplace_back(name);
        bits &= ~bit;
    }
    if (bits != 0) out.push_back(fmt::format("unknown {} features 0x{:x}", family, bits));
}

VolumeInfo describe(const ondisk::ExtSuper& super) {
    VolumeInfo info;
    const std::uint32_t newer = incompat::extents | incompat::bit64 | incompat::flex_bg | incompat::inline_data;
    const bool four = (super.feature_incompat & newer) != 0 ||
                      (super.feature_ro_compat & ~(ro_compat::sparse_super | ro_compat::large_file | 0x4U)) != 0;
    info.format = four ? Format::Ext4 : (super.feature_compat & compat::has_journal) != 0 ? Format::Ext3 : Format::Ext2;
    if ((super.feature_incompat & incompat::journal_dev) != 0) info.format = Format::ExtJournal;
    info.label = stored::fixed_text(super.label);
    info.uuid = uuid_text(super.uuid);
    info.block_size = super.log_block_size <= 6 ? 1024U << super.log_block_size : 0;
    std::uint64_t blocks = super.blocks_count_low;
    if ((super.feature_incompat & incompat::bit64) != 0) blocks |= std::uint64_t{super.blocks_count_high} << 32U;
    info.size = blocks < (std::uint64_t{1} << 47U) ? blocks * info.block_size : 0;
    info.features = feature_names(super);
    info.incompatible = super.feature_incompat;
    info.last_mounted = stored::fixed_text(super.last_mounted);
    info.last_written = super.write_time;
    return info;
}

bool is_power_of(std::uint32_t value, std::uint32_t base) {
    while (value % base == 0) value /= base;
    return value == 1;
}

}  // namespace

std::vector<std::string> feature_names(const ondisk::ExtSuper& super) {
    std::vector<std::string> out;
    name_bits(out, super.feature_compat, compat_names, "compatible");
    for (auto& name : incompatible_names(Family::Ext, super.feature_incompat)) out.push_back(std::move(name));
    name_bits(out, super.feature_ro_compat, ro_compat_names, "read-only compatible");
    return out;
}

ExtFs::ExtFs(Source volume, Reader reader, const ondisk::ExtSuper& super, VolumeInfo info)
    : volume_(std::move(volume)),
      reader_(reader),
      super_(super),
      info_(std::move(info)),
      block_size_(info_.block_size),
      blocks_(info_.size / info_.block_size),
      groups_(static_cast<std::uint32_t>(std::min<std::uint64_t>(
          (blocks_ - super.first_data_block + super.blocks_per_group - 1) / super.blocks_per_group, 0xFFFFFFFFU))),
      descriptor_size_(
          (super.feature_incompat & incompat::bit64) != 0 ? std::max<std::uint32_t>(super.descriptor_size, 32) : 32U),
      inode_size_(super.revision == 0 ? 128U : static_cast<std::uint32_t>(super.inode_size)),
      seed_((super.feature_incompat & incompat::csum_seed) != 0 ? static_cast<std::uint32_t>(super.checksum_seed)
                                                                : crc32c(0xFFFFFFFFU, super.uuid)) {}

std::string ExtFs::inode_place(FileId number) const { return fmt::format("{} inode {}", volume_->place(), number); }

/// Backup superblocks lie in groups 0, 1 and powers of 3, 5, 7 with sparse_super, in all groups without.
bool ExtFs::group_has_super(std::uint32_t group) const {
    if (group == 0) return true;
    if ((super_.feature_compat & compat::sparse_super2) != 0)
        return group == super_.backup_groups[0] || group == super_.backup_groups[1];
    if (!has_ro_compat(ro_compat::sparse_super)) return true;
    return group == 1 || is_power_of(group, 3) || is_power_of(group, 5) || is_power_of(group, 7);
}

std::uint64_t ExtFs::descriptor_offset(std::uint32_t group) const {
    const std::uint64_t per_block = block_size_ / descriptor_size_;
    const std::uint64_t index = group / per_block;
    const std::uint64_t within = (group % per_block) * descriptor_size_;
    // The block that holds the superblock: not always the first data block (bigalloc with 1 KiB blocks has that at 0).
    const std::uint64_t super_block = block_size_ == 1024 ? 1 : 0;
    if (!has_incompat(incompat::meta_bg) || index < super_.first_meta_group)
        return (super_block + 1 + index) * block_size_ + within;
    // meta_bg: each run of per_block groups keeps its own descriptor block in its first group.
    const std::uint64_t first = index * per_block;
    std::uint64_t block = first * super_.blocks_per_group + super_.first_data_block;
    if (group_has_super(static_cast<std::uint32_t>(first))) ++block;
    if (index == 0 && super_block == 1 && super_.first_data_block == 0) ++block;
    return block * block_size_ + within;
}

std::uint64_t ExtFs::group_field(std::uint32_t low, std::uint32_t high) const {
    return descriptor_size_ >= 64 ? low | std::uint64_t{high} << 32U : low;
}

Result<ondisk::ExtGroup> ExtFs::group(std::uint32_t number) const {
    std::vector<std::uint8_t> raw(descriptor_size_);
    if (auto done = volume_->read(descriptor_offset(number), raw); !done) return tl::unexpected(done.error());
    ondisk::ExtGroup out{};
    std::memcpy(static_cast<void*>(&out), raw.data(), std::min<std::size_t>(raw.size(), sizeof(out)));
    return out;
}

std::optional<std::uint16_t> ExtFs::group_checksum(std::uint32_t number, std::span<const std::uint8_t> raw) const {
    constexpr std::size_t at = offsetof(ondisk::ExtGroup, checksum);
    const ondisk::little_uint32_t index(number);
    const std::span<const std::uint8_t> index_bytes(reinterpret_cast<const std::uint8_t*>(&index), 4);
    if (has_ro_compat(ro_compat::metadata_csum)) {
        static constexpr std::array<std::uint8_t, 2> zeros{};
        std::uint32_t sum = crc32c(crc32c(seed_, index_bytes), raw.first(at));
        sum = crc32c(sum, zeros);
        return static_cast<std::uint16_t>(crc32c(sum, raw.subspan(at + 2)));
    }
    if (has_ro_compat(ro_compat::gdt_csum)) {
        const std::uint16_t sum = crc16(crc16(crc16(0xFFFF, super_.uuid), index_bytes), raw.first(at));
        return raw.size() > at + 2 ? crc16(sum, raw.subspan(at + 2)) : sum;
    }
    return std::nullopt;
}

bool ExtFs::group_checksum_holds(std::uint32_t number, std::span<const std::uint8_t> raw) const {
    const auto computed = group_checksum(number, raw);
    return !computed ||
           *computed == ondisk::from_bytes<ondisk::little_uint16_t>(raw, offsetof(ondisk::ExtGroup, checksum));
}

void ExtFs::check_geometry(std::vector<Finding>& out) const {
    if (info_.size > volume_->size())
        out.push_back(make_finding(
            Code::ExtLargerThanPartition,
            fmt::format("the file system in {} is larger than its partition", volume_->place()),
            {evidence_bytes(*volume_, super_offset + offsetof(ondisk::ExtSuper, blocks_count_low), 4,
                            fmt::format("at most {} blocks of {} bytes", volume_->size() / block_size_, block_size_),
                            fmt::format("{} blocks", blocks_))},
            fmt::format("EXT4-fs (…): bad geometry: block count {} exceeds size of device ({} blocks)", blocks_,
                        volume_->size() / block_size_)));
    if (has_ro_compat(ro_compat::metadata_csum)) {
        std::array<std::uint8_t, sizeof(super_)> raw{};
        std::memcpy(raw.data(), &super_, sizeof(super_));
        const std::uint32_t sum = crc32c(0xFFFFFFFFU, std::span(raw).first(1020));
        if (sum != super_.checksum)
            out.push_back(make_finding(
                Code::ExtSuperChecksum, fmt::format("the superblock of {} fails its checksum", volume_->place()),
                {evidence_bytes(*volume_, super_offset, 1024, fmt::format("{:08x}", sum),
                                fmt::format("{:08x}", static_cast<std::uint32_t>(super_.checksum)))},
                "EXT4-fs (…): VFS: Found ext4 filesystem with invalid superblock checksum.  Run e2fsck?"));
    }
}

/// The kernel refuses descriptors that point outside the file system; a wrong checksum alone it tolerates
/// while mounting read-only (ext4_check_descriptors), which is how a root file system is mounted first.
void ExtFs::check_groups(std::vector<Finding>& out) const {
    constexpr std::uint32_t most_groups = 4096;  // bounded work: the boot needs the groups its files live in
    for (std::uint32_t i = 0; i < std::min(groups_, most_groups); ++i) {
        std::vector<std::uint8_t> raw(descriptor_size_);
        const std::uint64_t at = descriptor_offset(i);
        if (auto done = volume_->read(at, raw); !done) {
            out.push_back(make_finding(Code::ExtGroupUnreadable,
                                       fmt::format("the descriptor of block group {} cannot be read", i),
                                       {evidence_error(done.error())}, "EXT4-fs (…): can't read group descriptor"));
            return;
        }
        ondisk::ExtGroup g{};
        std::memcpy(static_cast<void*>(&g), raw.data(), std::min(raw.size(), sizeof(g)));
        for (const std::uint64_t block :
             {group_field(g.block_bitmap_low, g.block_bitmap_high),
              group_field(g.inode_bitmap_low, g.inode_bitmap_high), group_field(g.inode_table_low, g.inode_table_high)})
            if (block < super_.first_data_block || block >= blocks_) {
                out.push_back(make_finding(
                    Code::ExtGroupInvalid,
                    fmt::format("block group {} of {} has its tables outside the file system", i, volume_->place()),
                    {evidence_bytes(*volume_, at, descriptor_size_, fmt::format("blocks below {}", blocks_),
                                    fmt::format("block {}", block))},
                    "EXT4-fs (…): group descriptors corrupted!"));
                return;
            }
        if (!group_checksum_holds(i, raw)) {
            auto finding = make_finding(
                Code::ExtGroupChecksum, fmt::format("the descriptor of block group {} fails its checksum", i),
                {evidence_bytes(*volume_, at, descriptor_size_)},
                fmt::format("EXT4-fs (…): ext4_check_descriptors: Checksum for group {} failed", i));
            out.push_back(std::move(finding));
        }
    }
}

void ExtFs::check_journal(std::vector<Finding>& out, bool obstacles) const {
    if ((super_.feature_compat & compat::has_journal) == 0 || super_.journal_inode == 0) return;
    const auto file = open(super_.journal_inode, volume_->place() + " journal");
    const auto super = file ? (*file)->load<ondisk::JournalSuper>(0) : tl::unexpected(file.error());
    if (!super || super->magic != 0xC03B3998U) {
        if (obstacles)
            out.push_back(
                make_finding(Code::ExtJournalBad, fmt::format("the journal of {} cannot be read", volume_->place()),
                             {super ? evidence_bytes(**file, 0, 4, "c0 3b 39 98") : evidence_error(super.error())},
                             "EXT4-fs (…): error loading journal"));
        return;
    }
    if (obstacles && journal_problem_)
        out.push_back(make_finding(
            Code::ExtJournalBad,
            fmt::format("the kernel does not replay the journal of {}: {}", volume_->place(), journal_problem_->what),
            {evidence_error(*journal_problem_)}, "EXT4-fs (…): error loading journal"));
    if (obstacles || (super->start == 0 && !has_incompat(incompat::recover))) return;
    out.push_back(make_finding(
        Code::ExtJournalDirty,
        fmt::format("{} was not unmounted cleanly: the kernel replays its journal when mounting; boot loaders read "
                    "past the journal and may see older file contents than the system will{}",
                    volume_->place(),
                    fast_commits_ ? "; what its fast commits still change is not looked at here" : ""),
        {evidence_bytes(**file, offsetof(ondisk::JournalSuper, start), 4, "0",
                        fmt::format("log starts at block {}", static_cast<std::uint32_t>(super->start)))}));
}

std::vector<Finding> ExtFs::mount_obstacles(std::string_view /*options*/) const {
    std::vector<Finding> out;
    check_geometry(out);
    std::vector<Finding> groups;
    check_groups(groups);
    std::ranges::copy_if(groups, std::back_inserter(out),
                         [](const Finding& f) { return f.severity == Severity::Breaks; });
    if (const auto top = stat(root()); !top)
        out.push_back(make_finding(Code::ExtRootInode,
                                   fmt::format("the root directory's inode of {} cannot be read", volume_->place()),
                                   {evidence_error(top.error())}, "EXT4-fs (…): get root inode failed"));
    else if (top->type != FileType::Directory)
        out.push_back(
            make_finding(Code::ExtRootInode, fmt::format("inode 2 of {} is not a directory", volume_->place()),
                         {evidence_place(inode_place(2), "a directory", std::string(file_type_name(top->type)))},
                         "EXT4-fs (…): corrupt root inode, run e2fsck"));
    check_journal(out, true);
    return out;
}

/// The counts of the superblock hold when it was unmounted cleanly (ext4_commit_super). Blocks kept for root are
/// root's.
void ExtFs::check_room(std::vector<Finding>& out) const {
    if ((super_.state & 1U) == 0 || has_incompat(incompat::recover)) return;
    const auto wide = [&](std::uint32_t low, std::uint32_t high) {
        return has_incompat(incompat::bit64) ? low | std::uint64_t{high} << 32U : low;
    };
    const auto free = wide(super_.free_blocks_low, super_.free_blocks_high);
    const auto kept = wide(super_.reserved_blocks_low, super_.reserved_blocks_high);
    std::string text;
    auto at = offsetof(ondisk::ExtSuper, free_blocks_low);
    if (free == 0) text = fmt::format("{} is full: no block is free", volume_->place());
    else if (super_.free_inodes == 0) {
        text = fmt::format("{} is full: no inode is free, so no file can be made", volume_->place());
        at = offsetof(ondisk::ExtSuper, free_inodes);
    } else if (free <= kept)
        text = fmt::format("{} is full for all but root: {} blocks are free, and {} are kept for root",
                           volume_->place(), free, kept);
    else return;
    out.push_back(
        make_finding(Code::ExtFull, std::move(text),
                     {evidence_bytes(*volume_, super_offset + at, 4, "more",
                                     at == offsetof(ondisk::ExtSuper, free_inodes) ? "0" : fmt::format("{}", free))}));
}

std::vector<Finding> ExtFs::remarks() const {
    std::vector<Finding> out;
    check_journal(out, false);
    std::vector<Finding> groups;
    check_groups(groups);
    std::ranges::copy_if(groups, std::back_inserter(out),
                         [](const Finding& f) { return f.severity != Severity::Breaks; });
    if ((super_.state & 2U) != 0)
        out.push_back(
            make_finding(Code::ExtErrorsRecorded, fmt::format("{} is marked as having errors", volume_->place()),
                         {evidence_bytes(*volume_, super_offset + offsetof(ondisk::ExtSuper, state), 2, "bit 1 clear",
                                         fmt::format("0x{:04x}", static_cast<unsigned>(super_.state)))}));
    check_room(out);
    for (std::uint32_t g = 1; g < groups_; ++g) {
        if (!group_has_super(g)) continue;
        const std::uint64_t at = (std::uint64_t{g} * super_.blocks_per_group + super_.first_data_block) * block_size_;
        const auto backup = volume_->load<ondisk::ExtSuper>(at);
        if (!backup || backup->magic != super_magic || backup->uuid != super_.uuid ||
            backup->blocks_count_low != super_.blocks_count_low || backup->block_group != (g & 0xFFFFU))
            out.push_back(make_finding(
                Code::ExtBackupSuperDiffers,
                fmt::format("the first backup superblock of {} does not match the primary one", volume_->place()),
                {evidence_bytes(*volume_, at, 1024, "the same UUID and size as the primary",
                                backup ? uuid_text(backup->uuid) : backup.error().text())}));
        break;  // the first backup tells; the others follow the same pattern
    }
    return out;
}

}  // namespace ext

namespace {

/// The superblock as loaders have it, who ask for its first sector alone (GRUB 2, SYSLINUX; really started): zeros
/// where the medium does not give the other one.
Result<ondisk::ExtSuper> load_super(const ByteSource& volume) {
    auto whole = volume.load<ondisk::ExtSuper>(ext::super_offset);
    if (whole || !whole.error().unreadable()) return whole;
    constexpr std::size_t sector = 512;
    auto bytes = volume.bytes(ext::super_offset, sector);
    if (!bytes) return tl::unexpected(bytes.error());
    bytes->resize(sizeof(ondisk::ExtSuper));
    return ondisk::from_bytes<ondisk::ExtSuper>(*bytes);
}

}  // namespace

std::optional<VolumeInfo> recognise_ext(const ByteSource& volume) {
    const auto super = load_super(volume);
    if (!super || super->magic != ext::super_magic) return std::nullopt;
    return ext::describe(*super);
}

Result<std::shared_ptr<const FileSystem>> open_ext(const Source& volume, Reader reader) {
    const auto loaded =
        reader == Reader::Kernel ? volume->load<ondisk::ExtSuper>(ext::super_offset) : load_super(*volume);
    if (!loaded) return tl::unexpected(loaded.error());
    const auto& super = *loaded;
    auto info = ext::describe(super);
    auto refuse = [&](std::string what, std::string found = {}) {
        return fail(ErrorKind::Malformed, std::move(what), volume->place(), {}, std::move(found));
    };
    if (super.magic != ext::super_magic) return refuse("no ext superblock");
    if (info.format == Format::ExtJournal)
        return fail(ErrorKind::Unsupported, "an external journal holds no files", volume->place());
    if (const std::uint32_t unknown = super.feature_incompat & ~ext::incompat::readable; unknown != 0)
        return fail(ErrorKind::Unsupported,
                    fmt::format("the file system uses features that are not read here: {}",
                                fmt::join(incompatible_names(Family::Ext, unknown), ", ")),
                    volume->place());
    if (info.block_size == 0)
        return refuse("the ext superblock has an impossible block size",
                      fmt::format("1024 << {}", static_cast<std::uint32_t>(super.log_block_size)));
    // With bigalloc the bitmap counts clusters, and a group has correspondingly more blocks.
    const bool clusters = (super.feature_ro_compat & ext::ro_compat::bigalloc) != 0;
    const std::uint32_t in_bitmap = clusters ? super.clusters_per_group : super.blocks_per_group;
    if (super.blocks_per_group == 0 || in_bitmap == 0 || in_bitmap > info.block_size * 8U ||
        super.inodes_per_group == 0)
        return refuse(
            "the ext superblock has impossible group sizes",
            fmt::format("{} blocks and {} inodes per group", static_cast<std::uint32_t>(super.blocks_per_group),
                        static_cast<std::uint32_t>(super.inodes_per_group)));
    const std::uint32_t inode_size = super.revision == 0 ? 128U : static_cast<std::uint32_t>(super.inode_size);
    if (inode_size < 128 || inode_size > info.block_size || (inode_size & (inode_size - 1)) != 0)
        return refuse("the ext superblock has an impossible inode size", fmt::format("{} bytes", inode_size));
    const std::uint32_t descriptor = super.descriptor_size;
    if ((super.feature_incompat & ext::incompat::bit64) != 0 && descriptor != 0 &&
        (descriptor < 32 || descriptor > 1024 || (descriptor & (descriptor - 1)) != 0))
        return refuse("the ext superblock has an impossible descriptor size", fmt::format("{} bytes", descriptor));
    if (info.size == 0 || info.size / info.block_size <= super.first_data_block)
        return refuse("the ext superblock has an impossible block count");
    auto as_it_lies = std::make_shared<const ext::ExtFs>(volume, reader, super, info);
    constexpr auto recover = ext::incompat::recover;
    if (reader == Reader::Loader || (super.feature_incompat & recover) == 0 || super.journal_inode == 0)
        return as_it_lies;
    // The kernel replays the journal before it reads anything else, also when it mounts read-only.
    const auto journal = as_it_lies->open(super.journal_inode, volume->place() + " journal");
    if (!journal) return as_it_lies;
    auto replayed = ext::replay_journal(volume, *journal, info.block_size);
    const auto after = replayed.volume->load<ondisk::ExtSuper>(ext::super_offset);
    if (!after) return tl::unexpected(after.error());
    const bool same = after->magic == super.magic && after->log_block_size == super.log_block_size &&
                      after->inode_size == super.inode_size && after->blocks_per_group == super.blocks_per_group &&
                      after->inodes_per_group == super.inodes_per_group &&
                      after->descriptor_size == super.descriptor_size;
    if (!same) return refuse("the journal holds the superblock of another file system");
    return std::make_shared<const ext::ExtFs>(std::move(replayed), reader, *after, ext::describe(*after));
}

bool is_primary_ext(const ByteSource& volume) {
    const auto super = volume.load<ondisk::ExtSuper>(ext::super_offset);
    return super && super->magic == ext::super_magic && super->block_group == 0 && super->log_block_size <= 6;
}

std::optional<ExtBackup> find_ext_backup(const ByteSource& volume) {
    // First block of group 1 for the block sizes that mkfs uses by default: 1, 2 and 4 KiB.
    for (const std::uint64_t offset :
         {std::uint64_t{8193} * 1024, std::uint64_t{16384} * 2048, std::uint64_t{32768} * 4096}) {
        const auto super = volume.load<ondisk::ExtSuper>(offset);
        if (super && super->magic == ext::super_magic && super->block_group == 1)
            return ExtBackup{offset, ext::describe(*super)};
    }
    return std::nullopt;
}

}  // namespace herberge
