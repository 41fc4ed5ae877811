// SPDX-License-Identifier: MIT
// The ext reader's inside, shared by its three parts: superblock and groups, inodes and mapping, directories.
#pragma once

#include <string>
#include <vector>

#include <herberge/files.hpp>

#include "files/ext_journal.hpp"
#include "ondisk/ext.hpp"

namespace herberge::ext {

namespace incompat {
inline constexpr std::uint32_t compression = 0x1;
inline constexpr std::uint32_t filetype = 0x2;
inline constexpr std::uint32_t recover = 0x4;
inline constexpr std::uint32_t journal_dev = 0x8;
inline constexpr std::uint32_t meta_bg = 0x10;
inline constexpr std::uint32_t extents = 0x40;
inline constexpr std::uint32_t bit64 = 0x80;
inline constexpr std::uint32_t mmp = 0x100;
inline constexpr std::uint32_t flex_bg = 0x200;
inline constexpr std::uint32_t ea_inode = 0x400;
inline constexpr std::uint32_t dirdata = 0x1000;
inline constexpr std::uint32_t csum_seed = 0x2000;
inline constexpr std::uint32_t largedir = 0x4000;
inline constexpr std::uint32_t inline_data = 0x8000;
inline constexpr std::uint32_t encrypt = 0x10000;
inline constexpr std::uint32_t casefold = 0x20000;
/// What this reader decodes.
inline constexpr std::uint32_t readable = filetype | recover | meta_bg | extents | bit64 | mmp | flex_bg | ea_inode |
                                          csum_seed | largedir | inline_data | encrypt | casefold;
}  // namespace incompat

namespace ro_compat {
inline constexpr std::uint32_t sparse_super = 0x1;
inline constexpr std::uint32_t large_file = 0x2;
inline constexpr std::uint32_t gdt_csum = 0x10;
inline constexpr std::uint32_t bigalloc = 0x200;
inline constexpr std::uint32_t metadata_csum = 0x400;
}  // namespace ro_compat

namespace compat {
inline constexpr std::uint32_t has_journal = 0x4;
inline constexpr std::uint32_t dir_index = 0x20;
inline constexpr std::uint32_t sparse_super2 = 0x200;
}  // namespace compat

namespace inode_flag {
inline constexpr std::uint32_t encrypted = 0x800;
inline constexpr std::uint32_t indexed = 0x1000;
inline constexpr std::uint32_t extents = 0x80000;
inline constexpr std::uint32_t inline_data = 0x10000000;
inline constexpr std::uint32_t casefold = 0x40000000;
}  // namespace inode_flag

std::vector<std::string> feature_names(const ondisk::ExtSuper& super);

/// An inode with the bytes behind it that extended attributes live in.
struct Inode {
    FileId number = 0;
    ondisk::ExtInode head{};
    std::vector<std::uint8_t> raw;  ///< the whole record, inode_size bytes
    [[nodiscard]] std::uint64_t size() const;
    [[nodiscard]] FileType type() const;
    [[nodiscard]] std::uint32_t flags() const { return head.flags; }
};

class ExtFs final : public FileSystem {
public:
    ExtFs(Source volume, Reader reader, const ondisk::ExtSuper& super, VolumeInfo info);
    /// The same behind its replayed journal.
    ExtFs(Replayed replayed, Reader reader, const ondisk::ExtSuper& super, VolumeInfo info)
        : ExtFs(std::move(replayed.volume), reader, super, std::move(info)) {
        journal_problem_ = std::move(replayed.problem);
        fast_commits_ = replayed.fast_commits;
    }

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return 2; }
    [[nodiscard]] Result<FileInfo> stat(FileId file) const override;
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override;
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override;
    [[nodiscard]] Result<std::string> link_target(FileId link) const override;
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override;
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> resized(FileId file, std::uint64_t size) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_permissions(FileId file,
                                                                   std::uint32_t permissions) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_file(FileId directory, std::string_view name,
                                                            std::span<const std::uint8_t> content) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_directory(FileId directory,
                                                                 std::string_view name) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_link(FileId directory, std::string_view name,
                                                            std::string_view target) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_name(FileId directory, std::string_view name,
                                                            FileId file) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> without_name(FileId directory, std::string_view name) const override;
    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view /*options*/) const override;
    [[nodiscard]] std::optional<std::string> unreplayed() const override {
        return fast_commits_ ? std::optional<std::string>("the fast commits in its journal are not replayed here")
                             : std::nullopt;
    }
    [[nodiscard]] std::vector<Finding> remarks() const override;

private:
    using Visit = std::function<bool(const ondisk::ExtDirEntry&, std::string_view name)>;
    struct Mapping;
    struct Draft;

    [[nodiscard]] bool has_incompat(std::uint32_t bit) const { return (super_.feature_incompat & bit) != 0; }
    [[nodiscard]] bool has_ro_compat(std::uint32_t bit) const { return (super_.feature_ro_compat & bit) != 0; }
    [[nodiscard]] bool checks_metadata() const {
        return reader_ == Reader::Kernel && has_ro_compat(ro_compat::metadata_csum);
    }
    [[nodiscard]] std::uint64_t descriptor_offset(std::uint32_t group) const;
    [[nodiscard]] bool group_has_super(std::uint32_t group) const;
    [[nodiscard]] Result<ondisk::ExtGroup> group(std::uint32_t number) const;
    [[nodiscard]] Result<void> release(const Inode& inode, Draft& draft) const;
    Result<void> release_node(std::span<const std::uint8_t> node, int depth, FileId file, Draft& draft) const;
    [[nodiscard]] Result<Inode> folder_for(FileId directory, std::string_view name) const;
    [[nodiscard]] Result<Inode> new_inode(Draft& draft, std::uint32_t first_group, std::uint16_t mode) const;
    [[nodiscard]] Result<VolumeEdit> named(const Inode& directory, std::string_view name, FileId file,
                                           std::uint8_t type) const;
    /// What a descriptor's checksum must be; none: this file system has none.
    [[nodiscard]] std::optional<std::uint16_t> group_checksum(std::uint32_t number,
                                                              std::span<const std::uint8_t> raw) const;
    [[nodiscard]] bool group_checksum_holds(std::uint32_t number, std::span<const std::uint8_t> raw) const;
    [[nodiscard]] std::uint64_t group_field(std::uint32_t low, std::uint32_t high) const;
    [[nodiscard]] Result<std::uint64_t> inode_offset(FileId number) const;
    [[nodiscard]] Result<Inode> inode(FileId number) const;
    struct InodeChecksum {
        std::uint32_t computed = 0, stored = 0;
        bool whole = false;  ///< all 32 bits of it are stored
    };
    [[nodiscard]] InodeChecksum inode_checksum(const Inode& inode) const;
    /// An inode that may be changed, and what writes it back.
    [[nodiscard]] Result<Inode> changeable(FileId file) const;
    [[nodiscard]] Result<std::vector<VolumeEdit>> written_back(Inode inode) const;
    [[nodiscard]] std::uint32_t inode_seed(const Inode& inode) const;
    [[nodiscard]] Result<std::vector<Extent>> map(const Inode& inode) const;
    Result<void> map_extent_node(const Inode& inode, std::span<const std::uint8_t> node, int depth, Mapping& out) const;
    Result<void> map_indirect(std::uint32_t block, int level, std::uint64_t& logical, Mapping& out) const;
    [[nodiscard]] Result<std::vector<std::uint8_t>> inline_content(const Inode& inode) const;
    [[nodiscard]] Result<std::vector<std::uint8_t>> content(const Inode& inode, std::uint64_t most) const;
    Result<void> walk_directory(const Inode& inode, const Visit& visit) const;
    [[nodiscard]] bool directory_block_holds(const Inode& inode, std::span<const std::uint8_t> block, bool first) const;
    [[nodiscard]] std::string inode_place(FileId number) const;
    void check_geometry(std::vector<Finding>& out) const;
    void check_groups(std::vector<Finding>& out) const;
    void check_room(std::vector<Finding>& out) const;
    void check_journal(std::vector<Finding>& out, bool obstacles) const;

    Source volume_;
    Reader reader_;
    ondisk::ExtSuper super_;
    VolumeInfo info_;
    std::uint32_t block_size_;
    std::uint64_t blocks_;
    std::uint32_t groups_;
    std::uint32_t descriptor_size_;
    std::uint32_t inode_size_;
    std::uint32_t seed_;
    std::optional<Error> journal_problem_;
    bool fast_commits_ = false;
};

}  // namespace herberge::ext
