// SPDX-License-Identifier: MIT
#include "files/wim.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <herberge/budget.hpp>

#include "bytes/text16.hpp"
#include "files/packed_pieces.hpp"
#include "files/stored.hpp"
#include "files/walked.hpp"
#include "ondisk/wim.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t with_solid_resources = 0xE00;
constexpr std::uint32_t packs_xpress = 0x20000, packs_lzx = 0x40000, packs_lzms = 0x80000, is_packed = 2;
constexpr std::uint64_t most_metadata = std::uint64_t{256} << 20U, most_texts = std::uint64_t{16} << 20U;

using Bytes = std::vector<std::uint8_t>;
using Digest = ondisk::Bytes<20>;

std::uint64_t stored_size(const ondisk::WimResource& resource) {
    return resource.size_flags & ((std::uint64_t{1} << 56U) - 1);
}
std::uint8_t flags_of(const ondisk::WimResource& resource) {
    return static_cast<std::uint8_t>(resource.size_flags >> 56U);
}
bool is_metadata(const ondisk::WimResource& resource) { return (flags_of(resource) & 2U) != 0; }
bool packed(const ondisk::WimResource& resource) { return (flags_of(resource) & 4U) != 0; }
std::uint64_t end_of(const ondisk::WimResource& resource) {
    const std::uint64_t begin = resource.offset, size = stored_size(resource);
    return begin > UINT64_MAX - size ? UINT64_MAX : begin + size;
}

std::string packing_name(const ondisk::WimHeader& header) {
    if ((header.flags & is_packed) == 0) return "none";
    if ((header.flags & packs_xpress) != 0) return "XPRESS";
    if ((header.flags & packs_lzx) != 0) return "LZX";
    return (header.flags & packs_lzms) != 0 ? "LZMS" : "unknown";
}

/// The plain content of a resource.
Result<Source> content_of(const Source& file, const ondisk::WimHeader& header, const ondisk::WimResource& resource,
                          std::string place) {
    const std::uint64_t size = stored_size(resource);
    if (end_of(resource) > file->size())
        return fail(ErrorKind::OutOfRange, "its content lies behind the end of the image", std::move(place),
                    fmt::format("{} bytes", end_of(resource)), fmt::format("{} bytes", file->size()));
    auto stored = slice(file, resource.offset, size, place);
    if (!packed(resource)) return stored;
    const bool lzx = (header.flags & packs_lzx) != 0;
    // What is packed into other pieces than these needs another window, or another decoder.
    if (!lzx && (header.flags & packs_xpress) == 0)
        return fail(ErrorKind::Unsupported, fmt::format("packed by {}", packing_name(header)), std::move(place));
    if (header.chunk == 0 || header.chunk > (lzx ? 32768U : 65536U) || (header.chunk & (header.chunk - 1)) != 0)
        return fail(ErrorKind::Unsupported, fmt::format("packed in pieces of {} bytes", std::uint32_t{header.chunk}),
                    std::move(place));
    return packed_source(std::move(stored), resource.plain_size, {header.chunk, lzx}, std::move(place));
}

Result<ondisk::WimHeader> header_of(const ByteSource& file) {
    if (!is_wim(file)) return fail(ErrorKind::NotFound, "no imaging file", file.place());
    const auto header = file.load<ondisk::WimHeader>(0);
    if (!header)
        return fail(header.error().unreadable() ? header.error().kind : ErrorKind::OutOfRange,
                    "the header is cut short: " + header.error().what, file.place());
    if (header->head_size < sizeof(*header))
        return fail(ErrorKind::Malformed, "a header of an impossible size", file.place(), "208 bytes",
                    fmt::format("{} bytes", std::uint32_t{header->head_size}));
    if (header->version == with_solid_resources)
        return fail(ErrorKind::Unsupported, "its resources are packed together", file.place());
    if (header->parts > 1)
        return fail(ErrorKind::Unsupported, fmt::format("its resources lie in {} files", std::uint16_t{header->parts}),
                    file.place());
    return *header;
}

/// The table, in stored order. Errors: OutOfRange, and the medium's.
Result<std::vector<ondisk::WimTableEntry>> table_of(const Source& file, const ondisk::WimHeader& header) {
    const std::string place = file->place() + ", its table";
    const auto content = content_of(file, header, header.table, place);
    if (!content) return tl::unexpected(content.error());
    if ((*content)->size() > most_metadata) return fail(ErrorKind::TooLarge, "a table of that size is not read", place);
    if (const auto paid = charge(Cost::Kept, (*content)->size(), place); !paid) return tl::unexpected(paid.error());
    const auto bytes = (*content)->bytes(0, (*content)->size(), most_metadata);
    if (!bytes) return tl::unexpected(bytes.error());
    std::vector<ondisk::WimTableEntry> out;
    out.reserve(bytes->size() / sizeof(ondisk::WimTableEntry));
    for (std::size_t at = 0; at + sizeof(ondisk::WimTableEntry) <= bytes->size(); at += sizeof(ondisk::WimTableEntry))
        out.push_back(ondisk::from_bytes<ondisk::WimTableEntry>(*bytes, at));
    return out;
}

/// Files are known by where their entry lies in the metadata.
class Wim final : public FileSystem {
public:
    Wim(Source file, ondisk::WimHeader header, VolumeInfo info, std::vector<ondisk::WimTableEntry> table, Bytes entries)
        : file_(std::move(file)),
          header_(header),
          info_(std::move(info)),
          table_(std::move(table)),
          entries_(std::move(entries)) {
        std::ranges::sort(table_, {}, &ondisk::WimTableEntry::sha1);
        // Without any descriptor the count alone is there, and its size may be zero.
        const std::uint64_t size = ondisk::from_bytes<ondisk::WimSecurity>(entries_).size;
        root_ = (std::max<std::uint64_t>(size, sizeof(ondisk::WimSecurity)) + 7) & ~std::uint64_t{7};
    }
    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return root_; }
    [[nodiscard]] bool ignores_case() const override { return true; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto entry = at(file);
        if (!entry) return tl::unexpected(entry.error());
        FileInfo out;
        out.id = file;
        out.type = type_of(*entry);
        out.permissions = 0755;
        constexpr std::int64_t to_1970 = 11644473600;
        out.modified =
            std::max<std::int64_t>(static_cast<std::int64_t>(entry->written / 10'000'000) - to_1970, std::int64_t{0});
        out.attributes = entry->attributes;
        if (out.type == FileType::Regular)
            if (const auto* resource = resource_of(file, *entry)) out.size = resource->plain_size;
        return out;
    }
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        std::optional<FileId> found;
        const auto done = names(directory, [&](const DirEntry& entry) {
            if (same_name(entry.name, name)) found = entry.id;
            return !found;
        });
        if (found) return *found;
        if (!done) return tl::unexpected(done.error());
        return fail(ErrorKind::NotFound, fmt::format("no “{}” in the directory", printable(name)), file_->place());
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        return walked::list([&](const auto& visit) { return names(directory, visit); });
    }
    [[nodiscard]] Result<std::string> link_target(FileId /*link*/) const override {
        return fail(ErrorKind::Unsupported, "reparse points in an image are not followed", file_->place());
    }
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto entry = at(file);
        if (!entry) return tl::unexpected(entry.error());
        if (type_of(*entry) != FileType::Regular)
            return fail(ErrorKind::WrongType, "no regular file", std::move(place));
        if (const auto* resource = resource_of(file, *entry))
            return content_of(file_, header_, *resource, std::move(place));
        if (digest_of(file, *entry) == Digest{}) return memory_source({}, std::move(place));
        return fail(ErrorKind::Malformed, "the image's table does not list its content", std::move(place),
                    hex(digest_of(file, *entry), ""), "absent");
    }
    /// Files may be packed, and share their contents.
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto entry = at(file);
        if (!entry) return tl::unexpected(entry.error());
        const auto* resource = resource_of(file, *entry);
        if (resource == nullptr || packed(*resource)) return std::vector<Extent>{};
        return std::vector<Extent>{{0, resource->offset, stored_size(*resource)}};
    }

private:
    static FileType type_of(const ondisk::WimEntry& entry) {
        constexpr std::uint32_t directory = 0x10, reparse_point = 0x400;
        if ((entry.attributes & reparse_point) != 0) return FileType::Unknown;
        return (entry.attributes & directory) != 0 ? FileType::Directory : FileType::Regular;
    }

    [[nodiscard]] Result<ondisk::WimEntry> at(FileId file) const {
        if (file > entries_.size() || entries_.size() - file < sizeof(ondisk::WimEntry))
            return fail(ErrorKind::Malformed, "an entry behind the end of the image's metadata", file_->place());
        const auto entry = ondisk::from_bytes<ondisk::WimEntry>(entries_, file);
        if (entry.size < sizeof(entry) || entry.size > entries_.size() - file ||
            entry.name_size > entry.size - sizeof(entry))
            return fail(ErrorKind::Malformed, "an entry of an impossible size",
                        fmt::format("{}, byte {} of its metadata", file_->place(), file));
        return entry;
    }
    [[nodiscard]] std::string name_of(FileId file, const ondisk::WimEntry& entry) const {
        return utf8_from(
            units_from(std::span(entries_).subspan(file + sizeof(entry), std::size_t{entry.name_size} / 2 * 2)));
    }
    static std::uint64_t padded(std::uint64_t size) { return (size + 7) & ~std::uint64_t{7}; }

    /// Calls `visit` with each further stream's digest and whether it has a name; the end of the entry with all of
    /// them.
    template <class Visit>
    std::uint64_t streams(FileId file, const ondisk::WimEntry& entry, const Visit& visit) const {
        std::uint64_t here = file + padded(entry.size);
        for (unsigned i = 0; i < entry.streams; ++i) {
            if (here > entries_.size() || entries_.size() - here < sizeof(ondisk::WimStream)) return entries_.size();
            const auto stream = ondisk::from_bytes<ondisk::WimStream>(entries_, here);
            if (stream.size < sizeof(stream) || stream.size > entries_.size() - here) return entries_.size();
            visit(stream.sha1, stream.name_size != 0);
            here += padded(stream.size);
        }
        return here;
    }
    /// Of the content; all zeros: the file is empty.
    [[nodiscard]] Digest digest_of(FileId file, const ondisk::WimEntry& entry) const {
        Digest out = entry.sha1;
        streams(file, entry, [&](const Digest& digest, bool named) {
            if (!named && out == Digest{}) out = digest;
        });
        return out;
    }
    [[nodiscard]] const ondisk::WimResource* resource_of(FileId file, const ondisk::WimEntry& entry) const {
        const auto digest = digest_of(file, entry);
        const auto found = std::ranges::lower_bound(table_, digest, {}, &ondisk::WimTableEntry::sha1);
        return digest != Digest{} && found != table_.end() && found->sha1 == digest ? &found->resource : nullptr;
    }

    template <class Visit>
    Result<void> names(FileId directory, const Visit& visit) const {
        const auto entry = at(directory);
        if (!entry) return tl::unexpected(entry.error());
        if (type_of(*entry) != FileType::Directory) return fail(ErrorKind::WrongType, "no directory", file_->place());
        for (std::uint64_t here = entry->children; here != 0;) {
            if (const auto paid = charge(Cost::Steps, 1, file_->place()); !paid) return tl::unexpected(paid.error());
            if (here > entries_.size() || entries_.size() - here < 8)
                return fail(ErrorKind::Malformed, "a directory that does not end in the image's metadata",
                            file_->place());
            if (ondisk::from_bytes<ondisk::little_uint64_t>(entries_, here) == 0) return {};
            const auto child = at(here);
            if (!child) return tl::unexpected(child.error());
            if (!visit(DirEntry{name_of(here, *child), here, type_of(*child)})) return {};
            here = streams(here, *child, [](const Digest&, bool) {});
        }
        return {};
    }

    Source file_;
    ondisk::WimHeader header_;
    VolumeInfo info_;
    std::vector<ondisk::WimTableEntry> table_;  ///< by digest
    Bytes entries_;
    std::uint64_t root_ = 0;
};

}  // namespace

bool is_wim(const ByteSource& file) {
    const auto magic = file.size() >= 8 ? file.bytes(0, 8) : fail(ErrorKind::OutOfRange, "short");
    using namespace std::string_view_literals;
    return magic && stored::begins(*magic, "MSWIM\0\0\0"sv);
}

Result<WimFile> inspect_wim(const ByteSource& file) {
    const auto header = header_of(file);
    if (!header) return tl::unexpected(header.error());
    WimFile out;
    out.images = header->images;
    out.boot_image = header->boot_image;
    out.packing = packing_name(*header);
    out.chunk = (header->flags & is_packed) != 0 ? std::uint32_t{header->chunk} : 0;
    for (const auto* resource : {&header->table, &header->xml, &header->boot_metadata})
        if (stored_size(*resource) != 0) out.size = std::max(out.size, end_of(*resource));
    if (out.size > file.size())
        return fail(ErrorKind::OutOfRange, "it is cut short", file.place(), size_text(out.size),
                    size_text(file.size()));
    if (const std::uint64_t size = stored_size(header->xml); size != 0 && size <= most_texts && !packed(header->xml))
        if (const auto bytes = file.bytes(header->xml.offset, size, most_texts)) {
            // A mark of the byte order may stand first.
            const bool marked = bytes->size() >= 2 && (*bytes)[0] == 0xFF && (*bytes)[1] == 0xFE;
            out.description = utf8_from(units_from(std::span(*bytes).subspan(marked ? 2 : 0)));
        }
    return out;
}

Result<std::shared_ptr<const FileSystem>> open_wim(const Source& file, std::uint32_t number) {
    const auto header = header_of(*file);
    if (!header) return tl::unexpected(header.error());
    auto table = table_of(file, *header);
    if (!table) return tl::unexpected(table.error());
    // An image's number counts the metadata in the table; of the one to start the header tells where they lie.
    std::optional<ondisk::WimResource> metadata;
    std::uint32_t count = 0;
    for (const auto& row : *table)
        if (is_metadata(row.resource) && ++count == number) metadata = row.resource;
    if (number == header->boot_image && stored_size(header->boot_metadata) != 0) metadata = header->boot_metadata;
    if (!metadata || number == 0)
        return fail(ErrorKind::NotFound, fmt::format("no image {} in it", number), file->place());
    std::erase_if(*table, [](const ondisk::WimTableEntry& row) { return is_metadata(row.resource); });
    const std::string place = fmt::format("{}, metadata of image {}", file->place(), number);
    const auto content = content_of(file, *header, *metadata, place);
    if (!content) return tl::unexpected(content.error());
    if ((*content)->size() > most_metadata)
        return fail(ErrorKind::TooLarge, "metadata of that size are not read", place);
    if (const auto paid = charge(Cost::Kept, (*content)->size(), place); !paid) return tl::unexpected(paid.error());
    auto entries = (*content)->bytes(0, (*content)->size(), most_metadata);
    if (!entries) return tl::unexpected(entries.error());
    auto out = std::make_shared<const Wim>(file, *header, recognise_wim(*file).value_or(VolumeInfo{}),
                                           std::move(*table), std::move(*entries));
    const auto root = out->stat(out->root());
    if (!root) return tl::unexpected(root.error());
    if (root->type != FileType::Directory)
        return fail(ErrorKind::Malformed, "the root of the image is no directory", place);
    return out;
}

std::optional<VolumeInfo> recognise_wim(const ByteSource& file) {
    if (!is_wim(file)) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Wim;
    info.size = file.size();
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_wim_to_start(const Source& file, Reader /*reader*/) {
    const auto told = inspect_wim(*file);
    if (!told) return tl::unexpected(told.error());
    return open_wim(file, std::max(told->boot_image, std::uint32_t{1}));
}

}  // namespace herberge
