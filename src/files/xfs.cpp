// SPDX-License-Identifier: MIT
#include "files/xfs.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "files/features.hpp"
#include "files/stored.hpp"
#include "files/walked.hpp"
#include "files/xfs_log.hpp"
#include "ondisk/xfs.hpp"

namespace herberge {

namespace {

using stored::begins;
using stored::fixed_text;
using stored::type_in_directory;
using stored::type_of_mode;

constexpr std::uint64_t most_directory = std::uint64_t{256} << 20U;
constexpr std::size_t most_extents = 1U << 20U;
constexpr std::size_t most_tree_blocks = 65536;
constexpr std::uint64_t directory_data_end = std::uint64_t{1} << 35U;  // behind it lie a directory's indices
constexpr std::uint64_t most_link = 1024;

namespace incompatible {
constexpr std::uint32_t file_type = 1, needs_repair = 16;
// … sparse inodes, big times, 64-bit counters, exchanged ranges, parent pointers.
constexpr std::uint32_t known = 0xFF;
}  // namespace incompatible

/// The checksum of a structure with its field, at `field`, taken as 0 (kernel fs/xfs/libxfs/xfs_cksum.h).
bool checksum_holds(std::span<const std::uint8_t> bytes, std::size_t field) {
    static constexpr std::array<std::uint8_t, 4> zeros{};
    std::uint32_t sum = crc32c(~0U, bytes.first(field));
    sum = crc32c(sum, zeros);
    sum = crc32c(sum, bytes.subspan(field + 4));
    return ~sum == ondisk::from_bytes<ondisk::little_uint32_t>(bytes, field);
}

struct Inode {
    FileId number = 0;
    ondisk::XfsInode core{};
    std::vector<std::uint8_t> data;  ///< the fork for data, as it lies in the inode
};

class Xfs final : public FileSystem {
public:
    Xfs(Source volume, const ondisk::XfsSuper& super, VolumeInfo info, Reader reader)
        : volume_(std::move(volume)), super_(super), info_(std::move(info)), strict_(reader == Reader::Kernel) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return super_.root_inode; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        const auto& core = inode->core;
        FileInfo out;
        out.id = file;
        out.type = type_of_mode(core.mode);
        out.size = core.size;
        out.permissions = core.mode & 07777U;
        out.uid = core.uid;
        out.gid = core.gid;
        constexpr std::uint64_t big_times = 8;
        const std::uint64_t time = core.modified;
        out.modified = core.version == 3 && (core.flags2 & big_times) != 0
                           ? static_cast<std::int64_t>(time / 1'000'000'000) - (std::int64_t{1} << 31)
                           : static_cast<std::int32_t>(static_cast<std::uint32_t>(time >> 32U));
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        return walked::lookup([&](const auto& visit) { return walk(directory, visit); }, name, place_of(directory));
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        return walked::list([&](const auto& visit) { return walk(directory, visit); });
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto inode = read_inode(link);
        if (!inode) return tl::unexpected(inode.error());
        if (type_of_mode(inode->core.mode) != FileType::Symlink)
            return fail(ErrorKind::WrongType, "not a link", place_of(link));
        const std::uint64_t size = inode->core.size;
        if (size == 0 || size > most_link) return bad("a link's target has an impossible length", link);
        if (inode->core.format == 1) {
            if (size > inode->data.size()) return bad("a link's target is longer than its inode", link);
            return std::string(inode->data.begin(), inode->data.begin() + static_cast<std::ptrdiff_t>(size));
        }
        const auto extents = extents_of(*inode);
        if (!extents) return tl::unexpected(extents.error());
        std::string out;
        for (const auto& extent : *extents)
            for (std::uint64_t at = 0; at < extent.length && out.size() < size; at += block_size()) {
                const auto bytes = volume_->bytes(extent.base_offset + at, block_size());
                if (!bytes) return tl::unexpected(bytes.error());
                std::size_t from = 0;
                std::size_t room = bytes->size();
                if (version5()) {
                    const auto head = ondisk::from_bytes<ondisk::XfsLinkHead>(*bytes);
                    if (!begins(head.magic, "XSLM") || (strict_ && !checksum_holds(*bytes, 12)))
                        return bad("a block of a link's target is damaged", link);
                    from = sizeof(head);
                    room = std::min<std::size_t>(head.length, bytes->size() - from);
                }
                room = static_cast<std::size_t>(std::min<std::uint64_t>(room, size - out.size()));
                out.append(bytes->begin() + static_cast<std::ptrdiff_t>(from),
                           bytes->begin() + static_cast<std::ptrdiff_t>(from + room));
            }
        if (out.size() != size) return bad("a link's target is cut short", link);
        return out;
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        if (inode->core.format == 1) {
            auto bytes = inode->data;
            bytes.resize(static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), inode->core.size)));
            return memory_source(std::move(bytes), std::move(place));
        }
        auto extents = extents_of(*inode);
        if (!extents) return tl::unexpected(extents.error());
        return extent_source(volume_, std::move(*extents), inode->core.size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        return extents_of(*inode);
    }

    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view /*options*/) const override {
        std::vector<Finding> out;
        const auto refuse = [&](std::string text, std::uint64_t at, std::uint64_t length, std::string expected,
                                std::string found, std::string screen) {
            out.push_back(make_finding(
                Code::XfsNotMountable, fmt::format("the XFS driver refuses {}: {}", volume_->place(), text),
                {evidence_bytes(*volume_, at, length, std::move(expected), std::move(found))}, std::move(screen)));
        };
        if (super_.in_progress != 0)
            refuse("it was never made to the end", offsetof(ondisk::XfsSuper, in_progress), 1, "00",
                   fmt::format("{:02x}", super_.in_progress), "XFS (…): SB validate failed with error -22.");
        if (version5() && (super_.incompatible & incompatible::needs_repair) != 0)
            refuse("it is marked as in need of repair", offsetof(ondisk::XfsSuper, incompatible), 4, "bit 4 clear",
                   "set", "XFS (…): Filesystem needs repair.  Please run xfs_repair.");
        if (info_.size > volume_->size())
            refuse(fmt::format("it is larger ({}) than the volume ({})", size_text(info_.size),
                               size_text(volume_->size())),
                   offsetof(ondisk::XfsSuper, blocks), 8,
                   fmt::format("at most {} blocks", volume_->size() / block_size()),
                   fmt::format("{} blocks", std::uint64_t{super_.blocks}),
                   "XFS (…): last sector read failed\nmount: can't read superblock");
        if (const auto damage = damaged_group()) {
            out.push_back(make_finding(Code::XfsNotMountable,
                                       fmt::format("the XFS driver refuses {}: {}", volume_->place(), damage->what),
                                       {evidence_error(*damage)},
                                       "XFS (…): Metadata CRC error detected\nXFS (…): Unmount and run "
                                       "xfs_repair\nmount: Structure needs cleaning"));
        }
        if (super_.log_start == 0)
            refuse("its log is on another device, which no option names", offsetof(ondisk::XfsSuper, log_start), 8,
                   "a block", "0",
                   "XFS (…): filesystem is marked as having an external log; specify logdev on the mount "
                   "command line.");
        return out;
    }

    [[nodiscard]] std::optional<std::string> unreplayed() const override {
        if (super_.log_start == 0) return std::nullopt;
        const auto start = byte_of_block(super_.log_start);
        if (!start) return std::nullopt;
        const auto clean =
            xfs::log_is_clean(*volume_, *start, std::uint64_t{super_.log_blocks} * std::uint64_t{super_.block_size});
        return clean && *clean ? std::nullopt : std::optional<std::string>("its log is not replayed here");
    }

    [[nodiscard]] std::vector<Finding> remarks() const override {
        if (!unreplayed()) return {};
        return {make_finding(Code::XfsLogDirty,
                             fmt::format("{} was not unmounted cleanly: the kernel replays its log when mounting, and "
                                         "may then see other files than are read here",
                                         volume_->place()),
                             {evidence_place(volume_->place(), "an unmount at the log's end")})};
    }

private:
    [[nodiscard]] bool version5() const { return (super_.version & 15U) == 5; }
    [[nodiscard]] std::uint64_t block_size() const { return super_.block_size; }
    [[nodiscard]] std::string place_of(FileId file) const {
        return fmt::format("{}, inode {}", volume_->place(), file);
    }
    [[nodiscard]] tl::unexpected<Error> bad(std::string what, FileId file,
                                            ErrorKind kind = ErrorKind::Malformed) const {
        return fail(kind, std::move(what), place_of(file));
    }

    /// What a mount reads of every group, its free space and its inodes, and of the one with the root directory the
    /// tree of inodes (seen with Linux 6.18: each of them refuses the mount when it fails its checksum). None: sound.
    [[nodiscard]] std::optional<Error> damaged_group() const {
        constexpr std::uint32_t most_groups = 4096;
        const std::uint64_t group_bytes = std::uint64_t{super_.group_blocks} * block_size();
        const std::uint32_t sector = super_.sector_size;
        const auto look = [&](std::uint64_t at, std::uint64_t size, std::string_view mark, std::size_t field,
                              const std::string& what) -> std::optional<Error> {
            const auto bytes = volume_->bytes(at, size);
            if (!bytes) return bytes.error();
            const std::string place = fmt::format("{}@{}+{}", volume_->place(), at, size);
            if (!begins(*bytes, mark))
                return Error{ErrorKind::Malformed, what + " are overwritten", place, std::string(mark),
                             hex(std::span(*bytes).first(4))};
            if (version5() && !checksum_holds(*bytes, field))
                return Error{ErrorKind::Checksum, what + " fail their checksum", place, {}, {}};
            return std::nullopt;
        };
        for (std::uint32_t group = 0; group < std::min<std::uint32_t>(super_.groups, most_groups); ++group) {
            const std::uint64_t start = group * group_bytes;
            if (start + 3 * std::uint64_t{sector} > volume_->size()) break;  // told as too large
            if (auto error = look(start + sector, sector, "XAGF", offsetof(ondisk::XfsFreeSpace, checksum),
                                  fmt::format("the numbers of group {}'s free space", group)))
                return error;
            if (auto error =
                    look(start + 2 * std::uint64_t{sector}, sector, "XAGI", offsetof(ondisk::XfsInodes, checksum),
                         fmt::format("the numbers of group {}'s inodes", group)))
                return error;
        }
        const std::uint64_t first = super_.root_inode >> (super_.group_blocks_log + super_.inodes_per_block_log);
        const auto inodes = volume_->load<ondisk::XfsInodes>(first * group_bytes + 2 * std::uint64_t{sector});
        if (!inodes || inodes->root >= super_.group_blocks) return std::nullopt;
        return look(first * group_bytes + inodes->root * block_size(), block_size(), version5() ? "IAB3" : "IABT",
                    offsetof(ondisk::XfsGroupTree, checksum), "the inodes' tree's first nodes");
    }

    /// Byte of the volume at which a block begins, by its group and its number there.
    [[nodiscard]] std::optional<std::uint64_t> byte_of_block(std::uint64_t number) const {
        const std::uint64_t group = number >> super_.group_blocks_log;
        const std::uint64_t within = number & ((std::uint64_t{1} << super_.group_blocks_log) - 1);
        if (group >= super_.groups || within >= super_.group_blocks) return std::nullopt;
        return (group * super_.group_blocks + within) * block_size();
    }

    [[nodiscard]] Result<Inode> read_inode(FileId number) const {
        const auto block = byte_of_block(number >> super_.inodes_per_block_log);
        if (!block) return bad("an inode's number leads outside the file system", number);
        const std::uint64_t at =
            *block + (number & ((std::uint64_t{1} << super_.inodes_per_block_log) - 1)) * super_.inode_size;
        const auto bytes = volume_->bytes(at, super_.inode_size);
        if (!bytes) return tl::unexpected(bytes.error());
        Inode out;
        out.number = number;
        out.core = ondisk::from_bytes<ondisk::XfsInode>(*bytes);
        const auto& core = out.core;
        if (!begins(core.magic, "IN") || core.mode == 0 || core.version > 3)
            return bad("no inode where one should be", number);
        if (strict_ && version5() &&
            (!checksum_holds(*bytes, offsetof(ondisk::XfsInode, checksum)) || core.number != number))
            return bad("an inode fails its checksum", number, ErrorKind::Checksum);
        const std::size_t from = core.version == 3 ? sizeof(ondisk::XfsInode) : offsetof(ondisk::XfsInode, checksum);
        std::size_t room = bytes->size() - from;
        if (core.fork_offset != 0) {
            if (core.fork_offset * std::size_t{8} > room) return bad("an inode's parts do not fit into it", number);
            room = core.fork_offset * std::size_t{8};
        }
        out.data.assign(bytes->begin() + static_cast<std::ptrdiff_t>(from),
                        bytes->begin() + static_cast<std::ptrdiff_t>(from + room));
        return out;
    }

    // --- where a file's bytes lie -----------------------------------------------------------------------------------

    [[nodiscard]] Result<std::vector<Extent>> extents_of(const Inode& inode) const {
        std::vector<Extent> out;
        if (inode.core.format == 2) {
            constexpr std::uint64_t big_counters = 16;
            const bool big = inode.core.version == 3 && (inode.core.flags2 & big_counters) != 0;
            const std::uint64_t count = big ? std::uint64_t{inode.core.big_extents} : std::uint64_t{inode.core.extents};
            if (count * sizeof(ondisk::XfsExtent) > inode.data.size())
                return bad("an inode lists more extents than fit into it", inode.number);
            for (std::size_t i = 0; i < count; ++i)
                if (auto done = add(out, inode.data, i * sizeof(ondisk::XfsExtent), inode.number); !done)
                    return tl::unexpected(done.error());
        } else if (inode.core.format == 3) {
            if (auto done = tree(out, inode); !done) return tl::unexpected(done.error());
        } else {
            return bad("a file whose content lies nowhere", inode.number);
        }
        std::ranges::sort(out, {}, &Extent::offset);
        for (std::size_t i = 1; i < out.size(); ++i)
            if (out[i].offset < out[i - 1].offset + out[i - 1].length)
                return bad("two extents of a file overlap", inode.number);
        return out;
    }

    Result<void> add(std::vector<Extent>& out, std::span<const std::uint8_t> bytes, std::size_t at,
                     FileId number) const {
        const auto told = ondisk::from_bytes<ondisk::XfsExtent>(bytes, at);
        const std::uint64_t high = told.high;
        const std::uint64_t low = told.low;
        const std::uint64_t offset = (high >> 9U) & ((std::uint64_t{1} << 54U) - 1);
        const std::uint64_t block = (high & 0x1FFU) << 43U | low >> 21U;
        const std::uint64_t count = low & 0x1FFFFFU;
        if (count == 0 || offset > (std::uint64_t{1} << 50U) / block_size() + directory_data_end * 4)
            return bad("an impossible extent", number);
        if (out.size() >= most_extents) return bad("more extents than are followed", number, ErrorKind::TooLarge);
        // Allocated and never written: reads as zeros.
        if (high >> 63U != 0) return {};
        const auto first = byte_of_block(block);
        const auto last = byte_of_block(block + count - 1);
        if (!first || !last) return bad("an extent leads outside the file system", number);
        out.push_back({offset * block_size(), count * block_size(), *first});
        return {};
    }

    Result<void> tree(std::vector<Extent>& out, const Inode& inode) const {
        // The root lies in the inode: level, count, keys, then pointers behind room for all keys.
        const auto& data = inode.data;
        if (data.size() < 4) return bad("an inode's tree of extents is cut short", inode.number);
        const unsigned level = ondisk::from_bytes<ondisk::big_uint16_t>(data);
        const std::size_t count = ondisk::from_bytes<ondisk::big_uint16_t>(data, 2);
        const std::size_t most = (data.size() - 4) / 16;
        if (level == 0 || level > 9 || count > most) return bad("an inode's tree of extents is damaged", inode.number);
        std::size_t seen = 0;
        for (std::size_t i = 0; i < count; ++i) {
            const std::uint64_t block = ondisk::from_bytes<ondisk::big_uint64_t>(data, 4 + most * 8 + i * 8);
            if (auto done = tree_block(out, block, level - 1, inode.number, seen); !done) return done;
        }
        return {};
    }

    Result<void> tree_block(std::vector<Extent>& out, std::uint64_t block, unsigned level, FileId number,
                            std::size_t& seen) const {
        const auto at = byte_of_block(block);
        if (!at || ++seen > most_tree_blocks) return bad("a tree of extents leads outside the file system", number);
        const auto bytes = volume_->bytes(*at, block_size());
        if (!bytes) return tl::unexpected(bytes.error());
        const auto head = ondisk::from_bytes<ondisk::XfsTreeHead>(*bytes);
        const std::size_t size = version5() ? sizeof(head) : offsetof(ondisk::XfsTreeHead, block);
        if (!begins(head.magic, version5() ? "BMA3" : "BMAP") || head.level != level)
            return bad("a block of a tree of extents is damaged", number);
        if (strict_ && version5() && !checksum_holds(*bytes, offsetof(ondisk::XfsTreeHead, checksum)))
            return bad("a block of a tree of extents fails its checksum", number, ErrorKind::Checksum);
        const std::size_t count = head.records;
        const std::size_t most = (bytes->size() - size) / 16;
        if (count > most) return bad("a block of a tree of extents is damaged", number);
        for (std::size_t i = 0; i < count; ++i) {
            if (level == 0) {
                if (auto done = add(out, *bytes, size + i * 16, number); !done) return done;
                continue;
            }
            const std::uint64_t next = ondisk::from_bytes<ondisk::big_uint64_t>(*bytes, size + most * 8 + i * 8);
            if (auto done = tree_block(out, next, level - 1, number, seen); !done) return done;
        }
        return {};
    }

    // --- directories ------------------------------------------------------------------------------------------------

    using Visit = std::function<bool(const DirEntry&)>;  ///< false: enough

    Result<void> walk(FileId directory, const Visit& visit) const {
        const auto inode = read_inode(directory);
        if (!inode) return tl::unexpected(inode.error());
        if (type_of_mode(inode->core.mode) != FileType::Directory)
            return fail(ErrorKind::WrongType, "not a directory", place_of(directory));
        if (inode->core.format == 1) return walk_short(*inode, visit);
        const auto extents = extents_of(*inode);
        if (!extents) return tl::unexpected(extents.error());
        const std::uint64_t size = block_size() << super_.directory_block_log;
        const auto whole = extent_source(volume_, *extents, directory_data_end, place_of(directory));
        std::uint64_t next = 0;
        std::uint64_t read = 0;
        for (const auto& extent : *extents) {
            if (extent.offset >= directory_data_end) break;
            for (std::uint64_t at = std::max(next, extent.offset / size * size); at < extent.offset + extent.length;
                 at += size) {
                next = at + size;
                if ((read += size) > most_directory)
                    return bad("a directory larger than is read", directory, ErrorKind::TooLarge);
                const auto bytes = whole->bytes(at, size);
                if (!bytes) return tl::unexpected(bytes.error());
                const auto more = walk_block(*bytes, directory, visit);
                if (!more) return tl::unexpected(more.error());
                if (!*more) return {};
            }
        }
        return {};
    }

    [[nodiscard]] bool has_types() const {
        constexpr std::uint32_t types_in_version_4 = 0x200;
        return version5() ? (super_.incompatible & incompatible::file_type) != 0
                          : (super_.features2 & types_in_version_4) != 0;
    }

    Result<void> walk_short(const Inode& inode, const Visit& visit) const {
        const auto& data = inode.data;
        const std::size_t end = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), inode.core.size));
        if (end < 6) return bad("a directory is cut short", inode.number);
        const std::size_t wide = data[1] != 0 ? 8 : 4;
        const std::size_t count = data[0];
        std::size_t at = 2;
        const auto number_at = [&](std::size_t where) -> std::uint64_t {
            return wide == 8 ? std::uint64_t{ondisk::from_bytes<ondisk::big_uint64_t>(data, where)}
                             : std::uint64_t{ondisk::from_bytes<ondisk::big_uint32_t>(data, where)};
        };
        if (!visit({".", inode.number, FileType::Directory})) return {};
        if (!visit({"..", number_at(at), FileType::Directory})) return {};
        at += wide;
        for (std::size_t i = 0; i < count; ++i) {
            if (at + 3 > end) return bad("a directory is cut short", inode.number);
            const std::size_t length = data[at];
            const std::size_t name = at + 3;
            const std::size_t type = name + length;
            const std::size_t number = type + (has_types() ? 1 : 0);
            if (length == 0 || number + wide > end) return bad("a directory is cut short", inode.number);
            DirEntry entry;
            entry.name.assign(data.begin() + static_cast<std::ptrdiff_t>(name),
                              data.begin() + static_cast<std::ptrdiff_t>(type));
            entry.id = number_at(number);
            if (has_types()) entry.type = type_in_directory(data[type]);
            if (!visit(entry)) return {};
            at = number + wide;
        }
        return {};
    }

    /// The names in one block; false: the visitor has enough.
    Result<bool> walk_block(std::span<const std::uint8_t> bytes, FileId directory, const Visit& visit) const {
        const bool alone = begins(bytes, version5() ? "XDB3" : "XD2B");
        if (!alone && !begins(bytes, version5() ? "XDD3" : "XD2D"))
            return bad("a block of a directory is damaged", directory);
        if (strict_ && version5() && !checksum_holds(bytes, offsetof(ondisk::XfsDirectoryHead, checksum)))
            return bad("a block of a directory fails its checksum", directory, ErrorKind::Checksum);
        std::size_t at = version5() ? sizeof(ondisk::XfsDirectoryHead) : 16;
        std::size_t end = bytes.size();
        if (alone) {
            const auto tail = ondisk::from_bytes<ondisk::XfsDirectoryTail>(bytes, bytes.size() - 8);
            if (tail.count > (bytes.size() - at - 8) / 8) return bad("a block of a directory is damaged", directory);
            end = bytes.size() - 8 - tail.count * std::size_t{8};
        }
        while (at + 12 <= end) {
            const std::uint16_t tag = ondisk::from_bytes<ondisk::big_uint16_t>(bytes, at);
            if (tag == 0xFFFF) {
                const std::size_t length = ondisk::from_bytes<ondisk::big_uint16_t>(bytes, at + 2);
                if (length < 8 || length % 8 != 0 || length > end - at)
                    return bad("a block of a directory is damaged", directory);
                at += length;
                continue;
            }
            const std::size_t length = bytes[at + 8];
            const std::size_t whole = (8 + 1 + length + (has_types() ? 1 : 0) + 2 + 7) / 8 * 8;
            if (length == 0 || whole > end - at) return bad("a block of a directory is damaged", directory);
            DirEntry entry;
            entry.id = ondisk::from_bytes<ondisk::big_uint64_t>(bytes, at);
            entry.name.assign(bytes.begin() + static_cast<std::ptrdiff_t>(at + 9),
                              bytes.begin() + static_cast<std::ptrdiff_t>(at + 9 + length));
            if (has_types()) entry.type = type_in_directory(bytes[at + 9 + length]);
            if (!visit(entry)) return false;
            at += whole;
        }
        return true;
    }

    Source volume_;
    ondisk::XfsSuper super_;
    VolumeInfo info_;
    bool strict_;
};

VolumeInfo info_of(const ondisk::XfsSuper& super) {
    VolumeInfo info;
    info.format = Format::Xfs;
    info.uuid = uuid_text(super.uuid);
    info.label = fixed_text(super.label);
    info.block_size = super.block_size;
    info.size = super.blocks * super.block_size;
    info.features.push_back(fmt::format("version {}", super.version & 15U));
    if ((super.version & 15U) == 5) info.incompatible = super.incompatible;
    return info;
}

/// Why the numbers of a superblock cannot be; none: they fit each other.
std::optional<std::string> impossible(const ondisk::XfsSuper& super) {
    const auto power = [](std::uint64_t value, unsigned log) { return log < 32 && value == std::uint64_t{1} << log; };
    if (!power(super.block_size, super.block_log) || super.block_size < 512 || super.block_size > 65536)
        return "its block size";
    if (!power(super.sector_size, super.sector_log) || super.sector_size < 512 || super.sector_size > 32768)
        return "its sector size";
    if (!power(super.inode_size, super.inode_log) || super.inode_size < 256 || super.inode_size > super.block_size)
        return "its inodes' size";
    if (super.inodes_per_block_log >= 16 || super.inodes_per_block != super.block_size / super.inode_size ||
        std::uint64_t{super.inodes_per_block} != std::uint64_t{1} << super.inodes_per_block_log)
        return "how many inodes a block has";
    if (super.group_blocks == 0 || super.group_blocks_log > 31 ||
        super.group_blocks > std::uint64_t{1} << super.group_blocks_log || super.groups == 0 ||
        super.blocks > std::uint64_t{super.groups} * super.group_blocks ||
        super.blocks <= std::uint64_t{super.groups - 1U} * super.group_blocks)
        return "its groups";
    if (super.directory_block_log > 8 || std::uint64_t{super.block_size} << super.directory_block_log > 65536)
        return "its directories' block size";
    return std::nullopt;
}

}  // namespace

std::optional<VolumeInfo> recognise_xfs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::XfsSuper>(0);
    if (!super || !begins(super->magic, "XFSB")) return std::nullopt;
    return info_of(*super);
}

Result<std::shared_ptr<const FileSystem>> open_xfs(const Source& volume, Reader reader) {
    const auto super = volume->load<ondisk::XfsSuper>(0);
    if (!super) return tl::unexpected(super.error());
    const std::string place = fmt::format("{}@0+512", volume->place());
    const unsigned version = super->version & 15U;
    if (version != 4 && version != 5)
        return fail(ErrorKind::Malformed, "an XFS superblock of no known version", place, "4 or 5",
                    std::to_string(version));
    if (const auto why = impossible(*super))
        return fail(ErrorKind::Malformed, fmt::format("the XFS superblock contradicts itself: {}", *why), place);
    if (version == 5) {
        if (const std::uint32_t more = super->incompatible & ~incompatible::known; more != 0)
            return fail(ErrorKind::Unsupported,
                        fmt::format("XFS with features that are not read here: {}",
                                    fmt::join(incompatible_names(Family::Xfs, more), ", ")),
                        place);
        const auto sector = volume->bytes(0, super->sector_size);
        if (!sector) return tl::unexpected(sector.error());
        if (reader == Reader::Kernel && !checksum_holds(*sector, offsetof(ondisk::XfsSuper, checksum)))
            return fail(ErrorKind::Checksum, "the XFS superblock fails its checksum", place);
    }
    auto out = std::make_shared<const Xfs>(volume, *super, info_of(*super), reader);
    // Without its root directory a file system is not mounted.
    const auto root = out->stat(out->root());
    if (!root) return tl::unexpected(root.error());
    if (root->type != FileType::Directory)
        return fail(ErrorKind::Malformed, "the root of the XFS is no directory", place);
    return out;
}

}  // namespace herberge
