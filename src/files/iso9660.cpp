// SPDX-License-Identifier: MIT
#include "files/iso9660.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <chrono>

#include "bytes/text16.hpp"
#include "files/stored.hpp"
#include "ondisk/iso9660.hpp"

namespace herberge {

namespace {

using stored::begins;

constexpr std::uint64_t block = 2048;
constexpr std::uint64_t first_descriptor = 16;
constexpr std::uint64_t most_descriptors = 64;
constexpr std::uint64_t most_folder = std::uint64_t{32} << 20U;
constexpr int most_continuations = 32;
constexpr std::size_t most_pieces = 4096;
constexpr std::uint8_t flag_hidden_end = 0x80;
constexpr std::uint8_t flag_directory = 0x02;

enum class Names : std::uint8_t { RockRidge, Joliet, Plain };

std::string text_of_field(std::span<const std::uint8_t> bytes) {
    std::string out(bytes.begin(), std::ranges::find(bytes, std::uint8_t{0}));
    while (out.ends_with(' ')) out.pop_back();
    return printable(out);
}

std::int64_t seconds_of(std::span<const std::uint8_t> t) {
    using namespace std::chrono;
    if (t.size() < 7 || t[1] < 1 || t[1] > 12 || t[2] < 1 || t[2] > 31) return 0;
    const auto day = sys_days(year(1900 + t[0]) / month(t[1]) / std::chrono::day(t[2]));
    const auto offset = static_cast<std::int8_t>(t[6]);
    return day.time_since_epoch().count() * 86400LL + t[3] * 3600LL + t[4] * 60LL + t[5] - offset * 900LL;
}

bool joliet(const ondisk::IsoVolumeDescriptor& d) {
    return d.escapes[0] == '%' && d.escapes[1] == '/' &&
           (d.escapes[2] == '@' || d.escapes[2] == 'C' || d.escapes[2] == 'E');
}

void add_text(std::string& out, std::span<const std::uint8_t> bytes) {
    for (const auto byte : bytes) out += static_cast<char>(byte);
}

/// "FILE.TXT;1" → "file.txt"; a lone dot at the end goes, too (kernel fs/isofs/dir.c, isofs_name_translate).
std::string plain_name(std::string text) {
    if (const auto version = text.rfind(';'); version != std::string::npos) text.resize(version);
    if (text.ends_with('.')) text.pop_back();
    std::ranges::transform(text, text.begin(),
                           [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
    return text;
}

/// One directory record with what Rock Ridge adds to it.
struct Record {
    std::uint64_t at = 0;  ///< byte of the volume
    std::string name;
    bool current = false, parent = false, relocated = false;
    std::uint8_t flags = 0;
    std::vector<Extent> pieces;
    std::uint64_t size = 0;
    std::uint32_t mode = 0, uid = 0, gid = 0;
    std::int64_t modified = 0;
    bool has_mode = false, packed = false;
    std::string link;
    std::optional<std::uint32_t> moved_to;  ///< block of a directory that lies elsewhere
};

class IsoFs final : public FileSystem {
public:
    IsoFs(Source volume, VolumeInfo info, Names names, std::uint64_t root_record, std::size_t skip)
        : volume_(std::move(volume)), info_(std::move(info)), names_(names), root_(root_record), skip_(skip) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return root_; }
    [[nodiscard]] bool ignores_case() const override { return names_ != Names::RockRidge; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto record = at(file);
        if (!record) return tl::unexpected(record.error());
        FileInfo out;
        out.id = file;
        out.type = type_of(*record);
        out.size = record->size;
        const bool directory = out.type == FileType::Directory;
        out.permissions = record->has_mode ? record->mode & 07777U : directory ? 0555U : 0444U;
        // Linux gives plain files all permissions to read and execute.
        if (!record->has_mode) out.permissions = 0555U;
        out.uid = record->uid;
        out.gid = record->gid;
        out.modified = record->modified;
        out.packed_elsewhere = record->packed;
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        std::optional<FileId> found;
        const auto wanted = names_ == Names::RockRidge ? std::string(name) : lower_text(name);
        const auto done = each(directory, [&](const Record& r) {
            if ((names_ == Names::RockRidge ? r.name : lower_text(r.name)) != wanted) return true;
            found = r.at;
            return false;
        });
        if (!done) return tl::unexpected(done.error());
        if (!found)
            return fail(ErrorKind::NotFound, fmt::format("no “{}” in this directory", printable(name)),
                        volume_->place());
        return *found;
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        std::vector<DirEntry> out;
        const auto done = each(directory, [&](const Record& r) {
            out.push_back({r.name, r.at, type_of(r)});
            return true;
        });
        if (!done) return tl::unexpected(done.error());
        return out;
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto record = at(link);
        if (!record) return tl::unexpected(record.error());
        if (type_of(*record) != FileType::Symlink)
            return fail(ErrorKind::WrongType, "not a symbolic link", volume_->place());
        return record->link;
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto record = at(file);
        if (!record) return tl::unexpected(record.error());
        for (const auto& piece : record->pieces)
            if (piece.base_offset > volume_->size() || piece.length > volume_->size() - piece.base_offset)
                return fail(ErrorKind::OutOfRange, "the file lies past the end of the medium", std::move(place),
                            size_text(volume_->size()),
                            fmt::format("bytes {} to {}", piece.base_offset, piece.base_offset + piece.length));
        return extent_source(volume_, record->pieces, record->size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto record = at(file);
        if (!record) return tl::unexpected(record.error());
        return record->pieces;
    }

    [[nodiscard]] std::vector<Finding> remarks() const override {
        std::vector<Finding> out;
        if (info_.size > volume_->size())
            out.push_back(make_finding(Code::IsoCutShort,
                                       fmt::format("{} is cut short: its descriptor tells {}, there are {}",
                                                   volume_->place(), size_text(info_.size), size_text(volume_->size())),
                                       {evidence_bytes(*volume_, first_descriptor * block + 80, 8,
                                                       size_text(volume_->size()), size_text(info_.size))}));
        return out;
    }

private:
    static FileType type_of(const Record& r) {
        if (r.moved_to) return FileType::Directory;
        // What a mode calls regular, or nothing known, the record's own flag decides.
        const auto type = r.has_mode ? stored::type_of_mode(r.mode) : FileType::Unknown;
        if (type != FileType::Unknown && type != FileType::Regular) return type;
        return (r.flags & flag_directory) != 0 ? FileType::Directory : FileType::Regular;
    }

    /// The record at a byte of the volume; files of several pieces take up several records.
    [[nodiscard]] Result<Record> at(FileId where) const {
        // A record never crosses a block.
        const std::uint64_t begin = where / block * block;
        if (where >= volume_->size()) return fail(ErrorKind::OutOfRange, "no such directory record", volume_->place());
        const auto bytes = volume_->bytes(begin, std::min<std::uint64_t>(2 * block, volume_->size() - begin));
        if (!bytes) return tl::unexpected(bytes.error());
        std::size_t next = static_cast<std::size_t>(where - begin);
        return take(*bytes, begin, next);
    }

    Result<Record> take(std::span<const std::uint8_t> bytes, std::uint64_t begin, std::size_t& next) const {
        Record out;
        out.at = begin + next;
        while (true) {
            const auto bad = [&](std::string what) {
                return fail(ErrorKind::Malformed, std::move(what),
                            fmt::format("{} byte {}", volume_->place(), begin + next));
            };
            if (next + sizeof(ondisk::IsoDirectoryRecord) > bytes.size())
                return bad("a directory record ends too early");
            const auto head = ondisk::from_bytes<ondisk::IsoDirectoryRecord>(bytes, next);
            if (head.length < sizeof(head) + head.name_length || next + head.length > bytes.size())
                return bad("a directory record with an impossible length");
            const auto name = bytes.subspan(next + sizeof(head), head.name_length);
            const bool first = out.pieces.empty() && out.size == 0 && out.name.empty();
            if (first) {
                out.flags = head.flags;
                out.modified = seconds_of(head.recorded);
                out.current = head.name_length == 1 && name[0] == 0;
                out.parent = head.name_length == 1 && name[0] == 1;
                out.name = names_ == Names::Joliet ? joliet_name(name)
                                                   : plain_name(printable(std::string(name.begin(), name.end())));
                if (names_ == Names::RockRidge) {
                    const std::size_t used = sizeof(head) + head.name_length + (head.name_length % 2 == 0 ? 1U : 0U);
                    const std::size_t skip = out.at == root_ ? 0 : skip_;
                    if (used + skip < head.length)
                        rock_ridge(bytes.subspan(next + used + skip, head.length - used - skip), out);
                }
            }
            if (head.size.little != 0) {
                if (out.pieces.size() >= most_pieces) return bad("a file of too many pieces");
                out.pieces.push_back({out.size, head.size.little,
                                      (std::uint64_t{head.block.little} + head.extended_attributes) * block});
            }
            out.size += head.size.little;
            next += head.length;
            if ((head.flags & flag_hidden_end) == 0) return out;
            // The next record may lie in the next block.
            while (next < bytes.size() && bytes[next] == 0) ++next;
        }
    }

    static std::string joliet_name(std::span<const std::uint8_t> name) {
        std::string out = printable(utf8_from(units_from(name, true, false)));
        if (const auto version = out.rfind(';'); version != std::string::npos) out.resize(version);
        return out;
    }

    /// System use entries (SUSP 5.1 to 5.6, RRIP 4.1.1 to 4.1.6), continued elsewhere by CE.
    void rock_ridge(std::span<const std::uint8_t> use, Record& out) const {
        std::vector<std::uint8_t> held;
        bool named = false;
        std::string name;
        bool link_goes_on = false;
        for (int hop = 0; hop < most_continuations; ++hop) {
            std::optional<std::pair<std::uint64_t, std::uint64_t>> more;
            for (std::size_t p = 0; p + 4 <= use.size();) {
                const std::size_t length = use[p + 2];
                if (length < 4 || p + length > use.size()) break;
                const auto body = use.subspan(p + 4, length - 4);
                const auto kind = [&](char a, char b) {
                    return use[p] == static_cast<std::uint8_t>(a) && use[p + 1] == static_cast<std::uint8_t>(b);
                };
                const auto number = [&](std::size_t i) {
                    return i + 4 <= body.size() ? std::uint32_t{ondisk::from_bytes<ondisk::little_uint32_t>(body, i)}
                                                : 0U;
                };
                if (kind('S', 'T')) break;
                if (kind('P', 'X') && body.size() >= 32) {
                    out.mode = number(0);
                    out.uid = number(16);
                    out.gid = number(24);
                    out.has_mode = true;
                } else if (kind('N', 'M') && !body.empty()) {
                    if ((body[0] & 6U) == 0) add_text(name, body.subspan(1));
                    named = true;
                } else if (kind('S', 'L') && !body.empty()) {
                    link(body.subspan(1), out.link, link_goes_on);
                } else if (kind('T', 'F') && !body.empty()) {
                    const std::size_t each = (body[0] & 0x80U) != 0 ? 17 : 7;
                    const std::size_t place = 1 + ((body[0] & 1U) != 0 ? each : 0);
                    if (each == 7 && (body[0] & 2U) != 0 && place + 7 <= body.size())
                        out.modified = seconds_of(body.subspan(place, 7));
                } else if (kind('C', 'L')) {
                    out.moved_to = number(0);
                } else if (kind('R', 'E')) {
                    out.relocated = true;
                } else if (kind('Z', 'F')) {
                    out.packed = true;
                } else if (kind('C', 'E') && body.size() >= 24) {
                    more = std::pair{std::uint64_t{number(0)} * block + number(8), std::uint64_t{number(16)}};
                }
                p += length;
            }
            if (!more || more->second > block || more->first > volume_->size() ||
                more->second > volume_->size() - more->first)
                break;
            auto next = volume_->bytes(more->first, more->second);
            if (!next) break;
            held = std::move(*next);
            use = held;
        }
        if (named) out.name = printable(name);
    }

    /// Components of a link: flags (1: goes on, 2: ".", 4: "..", 8: "/"), length, text.
    static void link(std::span<const std::uint8_t> parts, std::string& out, bool& goes_on) {
        for (std::size_t p = 0; p + 2 <= parts.size();) {
            const std::uint8_t flags = parts[p];
            const std::size_t length = parts[p + 1];
            if (p + 2 + length > parts.size()) return;
            if (!out.empty() && !goes_on && out != "/") out += '/';
            if ((flags & 8U) != 0) out.assign(1, '/');
            else if ((flags & 2U) != 0) out += '.';
            else if ((flags & 4U) != 0) out += "..";
            else add_text(out, parts.subspan(p + 2, length));
            goes_on = (flags & 1U) != 0;
            p += 2 + length;
        }
    }

    template <class Visit>
    Result<void> each(FileId directory, Visit visit) const {
        auto owner = at(directory);
        if (!owner) return tl::unexpected(owner.error());
        if (type_of(*owner) != FileType::Directory)
            return fail(ErrorKind::WrongType, "not a directory", volume_->place());
        std::uint64_t begin = owner->pieces.empty() ? 0 : owner->pieces.front().base_offset;
        std::uint64_t size = owner->size;
        if (owner->moved_to) {
            begin = std::uint64_t{*owner->moved_to} * block;
            const auto self = at(begin);
            if (!self) return tl::unexpected(self.error());
            size = self->size;
        }
        if (begin == 0 || begin >= volume_->size())
            return fail(ErrorKind::OutOfRange, "a directory past the end of the medium",
                        fmt::format("{} byte {}", volume_->place(), directory));
        size = std::min(size, volume_->size() - begin);
        if (size > most_folder)
            return fail(ErrorKind::TooLarge, fmt::format("a directory of {}", size_text(size)), volume_->place(),
                        size_text(most_folder));
        const auto bytes = volume_->bytes(begin, size);
        if (!bytes) return tl::unexpected(bytes.error());
        for (std::size_t next = 0; next < bytes->size();) {
            if ((*bytes)[next] == 0) {
                next = (next / block + 1) * block;
                continue;
            }
            const auto record = take(*bytes, begin, next);
            if (!record) return tl::unexpected(record.error());
            if (record->current || record->parent || record->relocated || record->name.empty()) continue;
            if (!visit(*record)) return {};
        }
        return {};
    }

    Source volume_;
    VolumeInfo info_;
    Names names_;
    FileId root_;
    std::size_t skip_;  ///< bytes of system use that are not ours (SUSP 5.3)
};

struct Descriptors {
    std::optional<ondisk::IsoVolumeDescriptor> primary;
    std::uint64_t primary_at = 0;
    std::optional<ondisk::IsoVolumeDescriptor> supplementary;
    std::uint64_t supplementary_at = 0;
};

Descriptors descriptors(const ByteSource& volume) {
    Descriptors out;
    for (std::uint64_t i = 0; i < most_descriptors; ++i) {
        const std::uint64_t at = (first_descriptor + i) * block;
        const auto d = volume.load<ondisk::IsoVolumeDescriptor>(at);
        if (!d || !begins(d->id, "CD001") || d->type == 255) break;
        if (d->type == 1 && !out.primary) {
            out.primary = *d;
            out.primary_at = at;
        } else if (d->type == 2 && joliet(*d) && !out.supplementary) {
            out.supplementary = *d;
            out.supplementary_at = at;
        }
    }
    return out;
}

/// SUSP 5.3: the root directory's own record begins with "SP" when the protocol is used; bytes to skip elsewhere.
std::optional<std::size_t> rock_ridge_skip(const ByteSource& volume, const ondisk::IsoVolumeDescriptor& primary) {
    const std::uint64_t at = (std::uint64_t{primary.root.block.little} + primary.root.extended_attributes) * block;
    const auto bytes = volume.bytes(at, std::min<std::uint64_t>(block, volume.size() > at ? volume.size() - at : 0));
    // The first record: 33 bytes, a name of one byte, and no pad.
    if (!bytes || bytes->size() < 41 || (*bytes)[0] < 41) return std::nullopt;
    const auto use = std::span(*bytes).subspan(34);
    if (use[0] != 'S' || use[1] != 'P' || use[4] != 0xBE || use[5] != 0xEF) return std::nullopt;
    return use[6];
}

}  // namespace

std::optional<VolumeInfo> recognise_iso9660(const ByteSource& volume) {
    const auto found = descriptors(volume);
    if (!found.primary) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Iso9660;
    info.label = text_of_field(found.primary->label);
    info.block_size = found.primary->block_size;
    info.size = std::uint64_t{found.primary->blocks.little} * block;
    if (rock_ridge_skip(volume, *found.primary)) info.features.emplace_back("rock ridge");
    if (found.supplementary) info.features.emplace_back("joliet");
    // The date of the last change, or of creation, serves as identifier, down to hundredths.
    const auto dates = volume.bytes(found.primary_at + 813, 34);
    if (!dates) return info;
    std::string date(dates->begin() + 17, dates->begin() + 33);
    const auto digits = [](const std::string& t) {
        return std::ranges::all_of(t, [](char c) { return c >= '0' && c <= '9'; });
    };
    if (!digits(date) || date.starts_with("0000")) date.assign(dates->begin(), dates->begin() + 16);
    if (digits(date))
        info.uuid = fmt::format("{}-{}-{}-{}-{}-{}-{}", date.substr(0, 4), date.substr(4, 2), date.substr(6, 2),
                                date.substr(8, 2), date.substr(10, 2), date.substr(12, 2), date.substr(14, 2));
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_iso9660(const Source& volume, [[maybe_unused]] Reader reader) {
    auto info = recognise_iso9660(*volume);
    const auto found = descriptors(*volume);
    if (!info || !found.primary) return fail(ErrorKind::NotFound, "no primary volume descriptor", volume->place());
    if (found.primary->block_size != block)
        return fail(ErrorKind::Unsupported, "logical blocks of another size", volume->place(), "2048",
                    fmt::format("{}", static_cast<unsigned>(found.primary->block_size)));
    const auto skip = rock_ridge_skip(*volume, *found.primary);
    constexpr std::uint64_t root_at = offsetof(ondisk::IsoVolumeDescriptor, root);
    if (skip) return std::make_shared<const IsoFs>(volume, *info, Names::RockRidge, found.primary_at + root_at, *skip);
    if (found.supplementary)
        return std::make_shared<const IsoFs>(volume, *info, Names::Joliet, found.supplementary_at + root_at, 0U);
    return std::make_shared<const IsoFs>(volume, *info, Names::Plain, found.primary_at + root_at, 0U);
}

}  // namespace herberge
