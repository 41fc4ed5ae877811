// SPDX-License-Identifier: MIT
// The inside of the NTFS reader: records and attributes, streams, directories.
#pragma once

#include <functional>
#include <optional>

#include <herberge/files.hpp>

#include "ondisk/marks.hpp"
#include "ondisk/ntfs.hpp"

namespace herberge::ntfs {

/// The index of a folder's names.
inline constexpr std::u16string_view index_name = u"$I30";

namespace attribute {
inline constexpr std::uint32_t standard = 0x10, list = 0x20, file_name = 0x30, volume_name = 0x60,
                               volume_information = 0x70, data = 0x80, index_root = 0x90, index_allocation = 0xA0,
                               bitmap = 0xB0, reparse = 0xC0;
}

/// Of a file reference: the number without the sequence.
inline constexpr std::uint64_t record_mask = (std::uint64_t{1} << 48U) - 1;
inline constexpr std::uint16_t flag_compressed = 0x0001, flag_encrypted = 0x4000;
inline constexpr std::uint32_t reparse_junction = 0xA0000003, reparse_symlink = 0xA000000C, reparse_wof = 0x80000017;

/// A run of clusters; no `lcn`: a hole.
struct Run {
    std::uint64_t vcn = 0;
    std::uint64_t clusters = 0;
    std::optional<std::uint64_t> lcn;
};

/// One attribute, its pieces from extension records put together.
struct Attribute {
    std::uint32_t type = 0;
    std::u16string name;
    std::uint16_t flags = 0;
    bool resident = true;
    std::vector<std::uint8_t> value;  ///< resident
    std::uint64_t value_at = 0;       ///< resident: byte of the volume where it begins
    std::uint64_t record_at = 0;      ///< resident: byte of the volume where its record begins
    std::uint64_t fixups_at = 0;      ///< resident: … and where that keeps the last two bytes of its first sector
    std::vector<Run> runs;
    std::uint8_t compression_unit = 0;
    std::uint64_t size = 0;
    std::uint64_t valid = 0;
};

struct Record {
    std::uint64_t number = 0;
    bool directory = false;
    std::vector<Attribute> attributes;
    [[nodiscard]] const Attribute* find(std::uint32_t type, std::u16string_view name = {}) const;
};

class NtfsFs : public FileSystem {
public:
    NtfsFs(Source volume, Reader reader, const ondisk::NtfsBoot& boot);
    /// Reads the MFT's own record, the upcase table and the volume's label.
    Result<void> start();

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return 5; }
    [[nodiscard]] bool ignores_case() const override { return true; }
    [[nodiscard]] Result<FileInfo> stat(FileId file) const override;
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override;
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override;
    [[nodiscard]] Result<std::string> link_target(FileId link) const override;
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override;
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> resized(FileId file, std::uint64_t size) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_file(FileId directory, std::string_view name,
                                                            std::span<const std::uint8_t> content) const override;
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_directory(FileId directory,
                                                                 std::string_view name) const override;
    [[nodiscard]] std::vector<Finding> remarks() const override;

    [[nodiscard]] Result<Record> record(std::uint64_t number) const;
    /// The bytes of an attribute; what lies behind its valid length reads as zeros.
    [[nodiscard]] Result<Source> stream(const Attribute& attribute, std::string place) const;

private:
    struct Writing;
    struct Named {
        std::uint64_t record = 0;
        ondisk::NtfsFileName key{};
        std::u16string name;
    };
    [[nodiscard]] Result<std::vector<std::uint8_t>> raw_record(std::uint64_t number, std::uint64_t& at) const;
    [[nodiscard]] Result<void> add_attributes(const std::vector<std::uint8_t>& raw, std::uint64_t at,
                                              Record& out) const;
    [[nodiscard]] Result<std::vector<Run>> decode_runs(std::span<const std::uint8_t> bytes,
                                                       std::uint64_t first_vcn) const;
    [[nodiscard]] Result<void> take_list(const Attribute& list, Record& out) const;
    [[nodiscard]] std::vector<Extent> extents_of(const Attribute& attribute) const;
    [[nodiscard]] Result<void> walk(FileId directory, const std::function<bool(const Named&)>& visit) const;
    [[nodiscard]] Result<std::vector<std::uint8_t>> index_block(const Source& allocation, std::uint64_t at,
                                                                std::uint32_t size) const;
    [[nodiscard]] std::u16string upper(std::u16string_view name) const;
    /// Undoes the fix-ups of a record or index block; false: torn or damaged.
    [[nodiscard]] bool fix(std::vector<std::uint8_t>& block) const;
    [[nodiscard]] std::string record_place(std::uint64_t number) const;

    Source volume_;
    Reader reader_;
    ondisk::NtfsBoot boot_;
    VolumeInfo info_;
    std::uint32_t sector_ = 512;
    std::uint64_t cluster_ = 4096;
    std::uint32_t record_size_ = 1024;
    Record mft_;
    Source mft_data_;
    std::vector<char16_t> upcase_;
    /// Without content: a folder.
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_entry(
        FileId directory, std::string_view name, std::optional<std::span<const std::uint8_t>> content) const;
    /// Windows holds the state of a sleeping machine: what it has in memory would not fit a changed volume.
    [[nodiscard]] bool hibernated() const;
    /// Pieces of the volume for bytes of an attribute in runs.
    [[nodiscard]] Result<std::vector<VolumeEdit>> laid(const Attribute& attribute, std::uint64_t offset,
                                                       std::span<const std::uint8_t> bytes) const;
    /// The same for a record or index block, with its sectors' ends saved anew.
    [[nodiscard]] Result<std::vector<VolumeEdit>> laid_fixed(const Attribute& attribute, std::uint64_t offset,
                                                             std::vector<std::uint8_t> block) const;
    [[nodiscard]] Result<std::vector<VolumeEdit>> indexed(std::uint64_t directory, std::uint64_t file,
                                                          std::span<const std::uint8_t> key) const;

    std::uint16_t volume_flags_ = 0;
    bool mirror_used_ = false;
};

/// The size a record or index block has by the boot sector's code: clusters, or 2 to the power of its negation.
std::uint32_t coded_size(std::uint8_t code, std::uint64_t cluster);

/// LZNT1: one compression unit of at most `room` bytes (MS-XCA 2.5).
Result<std::vector<std::uint8_t>> unpack_lznt1(std::span<const std::uint8_t> packed, std::size_t room);

}  // namespace herberge::ntfs
