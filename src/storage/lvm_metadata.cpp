// SPDX-License-Identifier: MIT
#include "storage/lvm_metadata.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <cctype>
#include <charconv>

#include "files/stored.hpp"
#include "ondisk/marks.hpp"

namespace herberge::lvm {

namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint64_t most_text = std::uint64_t{16} << 20U;
constexpr std::size_t most_items = 200'000;
constexpr int most_depth = 32;
constexpr int most_areas = 8;
// lib/misc/crc.c: CRC-32 without the final inversion, from this start.
constexpr std::uint32_t crc_start = 0xF597A6CFU;

std::uint32_t checksum(std::span<const std::uint8_t> bytes) { return ~crc32(~crc_start, bytes); }

class Reader {
public:
    Reader(std::string_view text, std::string place) : text_(text), place_(std::move(place)) {}

    Result<void> run(Item& into) {
        into.kind = Item::Kind::List;
        return section(into, 0, true);
    }

private:
    tl::unexpected<Error> bad(std::string what) const {
        return fail(ErrorKind::Malformed, std::move(what), fmt::format("{}, byte {} of the text", place_, at_));
    }

    void skip() {
        while (at_ < text_.size()) {
            const char c = text_[at_];
            if (c == '#') at_ = std::min(text_.find('\n', at_), text_.size());
            else if (std::isspace(static_cast<unsigned char>(c)) != 0 || c == '\0') ++at_;
            else break;
        }
    }
    bool take(char c) {
        skip();
        if (at_ >= text_.size() || text_[at_] != c) return false;
        ++at_;
        return true;
    }

    std::string word() {
        const auto from = at_;
        while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) != 0 ||
                                      std::string_view("_.-+/@").find(text_[at_]) != std::string_view::npos))
            ++at_;
        return std::string(text_.substr(from, at_ - from));
    }

    Result<void> section(Item& into, int depth, bool outermost) {
        auto& items = into.parts;
        while (true) {
            skip();
            if (at_ >= text_.size()) {
                if (outermost) return {};
                return bad("a section does not end");
            }
            if (!outermost && take('}')) return {};
            if (++count_ > most_items || depth > most_depth)
                return fail(ErrorKind::TooLarge, "more sections and values than are read", place_);
            Item item;
            item.name = word();
            if (item.name.empty()) return bad("neither a name nor the end of a section");
            if (take('{')) {
                item.kind = Item::Kind::List;
                if (auto done = section(item, depth + 1, false); !done) return done;
            } else if (take('=')) {
                if (auto done = value(item, depth); !done) return done;
            } else {
                return bad(fmt::format("neither = nor {{ behind “{}”", printable(item.name)));
            }
            items.push_back(std::move(item));
        }
    }

    Result<void> value(Item& into, int depth) {
        skip();
        if (at_ >= text_.size()) return bad("a value is missing");
        if (text_[at_] == '[') {
            ++at_;
            std::vector<Item> list;
            while (!take(']')) {
                if (++count_ > most_items || depth > most_depth)
                    return fail(ErrorKind::TooLarge, "more sections and values than are read", place_);
                Item item;
                if (auto done = value(item, depth + 1); !done) return done;
                list.push_back(std::move(item));
                take(',');
                skip();
                if (at_ >= text_.size()) return bad("a list does not end");
            }
            into.kind = Item::Kind::List;
            into.parts = std::move(list);
            return {};
        }
        if (text_[at_] == '"') {
            std::string out;
            for (++at_; at_ < text_.size() && text_[at_] != '"'; ++at_) {
                if (text_[at_] == '\\' && at_ + 1 < text_.size()) ++at_;
                out += text_[at_];
            }
            if (at_ >= text_.size()) return bad("a string does not end");
            ++at_;
            into.kind = Item::Kind::Text;
            into.written = std::move(out);
            return {};
        }
        const std::string token = word();
        if (token.empty()) return bad("a value is missing");
        std::int64_t number = 0;
        const auto [end, error] = std::from_chars(token.data(), token.data() + token.size(), number);
        const bool is_number = error == std::errc{} && end == token.data() + token.size();
        into.kind = is_number ? Item::Kind::Number : Item::Kind::Text;
        if (is_number) into.whole = number;
        else into.written = token;
        return {};
    }

    std::string_view text_;
    std::string place_;
    std::size_t at_ = 0;
    std::size_t count_ = 0;
};

/// What is read, and what LVM refuses about it.
template <class T>
struct Doubtful {
    T value{};
    std::optional<Error> refused;
};

/// The text at `told` of an area; it goes on behind the area's first sector where it meets the end.
Result<Doubtful<std::string>> area_text(const ByteSource& source, std::uint64_t area, std::uint64_t area_size,
                                        const ondisk::LvmTextPlace& told) {
    const std::uint64_t offset = told.offset;
    const std::uint64_t size = told.size;
    const std::string place = fmt::format("{}@{}+{}", source.place(), area + offset, size);
    if (size > most_text) return fail(ErrorKind::TooLarge, "the group's description is too large", place);
    if (offset < sector || offset >= area_size || size > area_size - sector)
        return fail(ErrorKind::Malformed, "the group's description lies outside its area", place);
    const std::uint64_t first = std::min(size, area_size - offset);
    auto bytes = source.bytes(area + offset, first);
    if (!bytes) return tl::unexpected(bytes.error());
    if (first < size) {
        const auto rest = source.bytes(area + sector, size - first);
        if (!rest) return tl::unexpected(rest.error());
        bytes->insert(bytes->end(), rest->begin(), rest->end());
    }
    Doubtful<std::string> out{std::string(bytes->begin(), bytes->end()), std::nullopt};
    if (checksum(*bytes) != told.checksum)
        out.refused =
            Error{ErrorKind::Checksum, "the group's description fails its checksum", place,
                  fmt::format("{:08x}", std::uint32_t{told.checksum}), fmt::format("{:08x}", checksum(*bytes))};
    return out;
}

/// None: the area holds no description, by design. The loaders' readers look at the mark and the version, and neither
/// at sums nor at where the area says that it lies (grub-core/disk/lvm.c); LVM at all of them
/// (lib/format_text/format-text.c).
Result<Doubtful<std::optional<Description>>> read_area(const ByteSource& source, const ondisk::LvmArea& area) {
    Doubtful<std::optional<Description>> out;
    const std::uint64_t at = area.offset;
    const auto head = source.bytes(at, sector);
    if (!head) return tl::unexpected(head.error());
    const std::string place = fmt::format("{}@{}+512", source.place(), at);
    const auto fields = ondisk::from_bytes<ondisk::LvmMetadataHead>(*head);
    constexpr std::string_view mark = " LVM2 x[5A%r0N*>";
    if (!stored::begins(fields.magic, mark))
        return fail(ErrorKind::Malformed, "a metadata area has no mark",
                    fmt::format("{}@{}+16", source.place(), at + 4),
                    hex(std::span(reinterpret_cast<const std::uint8_t*>(mark.data()), mark.size())), hex(fields.magic));
    if (fields.version != 1)
        return fail(ErrorKind::Unsupported, "a metadata area is of a version that nobody reads",
                    fmt::format("{}@{}+4", source.place(), at + 20), "1",
                    fmt::format("{}", std::uint32_t{fields.version}));
    const auto sum = checksum(std::span(*head).subspan(4));
    if (sum != fields.checksum)
        out.refused = Error{ErrorKind::Checksum, "the head of a metadata area fails its checksum", place,
                            fmt::format("{:08x}", std::uint32_t{fields.checksum}), fmt::format("{:08x}", sum)};
    else if (fields.start != at)
        out.refused = Error{ErrorKind::Malformed, "the head of a metadata area says that it lies elsewhere", place,
                            fmt::format("byte {}", at), fmt::format("byte {}", std::uint64_t{fields.start})};
    const auto text_at = ondisk::from_bytes<ondisk::LvmTextPlace>(*head, sizeof(ondisk::LvmMetadataHead));
    if (text_at.offset == 0 || (text_at.flags & 1U) != 0) return out;
    const auto text = area_text(source, at, fields.size, text_at);
    if (!text) return tl::unexpected(out.refused.value_or(text.error()));
    if (!out.refused) out.refused = text->refused;
    const auto parsed = parse(text->value, place);
    // What is wrong with it is told by the sum already.
    if (!parsed) return tl::unexpected(out.refused.value_or(parsed.error()));
    for (const auto& item : parsed->items()) {
        if (!item.section()) continue;
        out.value = Description{item.name, item.number("seqno"), item, out.refused ? out.refused->what : std::string{}};
        return out;
    }
    return fail(ErrorKind::Malformed, "the text of a metadata area describes no group", place);
}

}  // namespace

const std::vector<Item>& Item::items() const {
    static const std::vector<Item> none;
    const auto* list = section() ? &parts : nullptr;
    return list != nullptr ? *list : none;
}

const Item* Item::find(std::string_view wanted) const {
    const auto found = std::ranges::find(items(), wanted, &Item::name);
    return found != items().end() ? &*found : nullptr;
}

std::int64_t Item::number(std::string_view wanted, std::int64_t otherwise) const {
    const auto* item = find(wanted);
    const auto* number = item != nullptr ? item->as_number() : nullptr;
    return number != nullptr ? *number : otherwise;
}

std::string Item::text(std::string_view wanted) const {
    const auto* item = find(wanted);
    const auto* text = item != nullptr ? item->as_text() : nullptr;
    return text != nullptr ? *text : std::string{};
}

bool Item::has_word(std::string_view list, std::string_view word) const {
    const auto* item = find(list);
    return item != nullptr && std::ranges::any_of(item->items(), [&](const Item& one) {
               const auto* text = one.as_text();
               return text != nullptr && *text == word;
           });
}

Result<Item> parse(std::string_view text, const std::string& place) {
    Result<Item> out;
    if (auto done = Reader(text, place).run(*out); !done) return tl::unexpected(done.error());
    return out;
}

std::string plain_id(std::string_view id) {
    std::string out(id);
    std::erase(out, '-');
    return out;
}

Physical read_physical(const VolumeRef& volume) {
    Physical out;
    out.volume = volume;
    const auto& source = *volume->source;
    const auto damaged = [&](const Error& error) {
        out.findings.push_back(make_finding(Code::LayerMetadataDamaged,
                                            fmt::format("on the physical volume {}: {}", volume->place, error.what),
                                            {evidence_error(error)}));
    };
    for (std::uint64_t i = 0; i < 4; ++i) {
        const auto bytes = source.bytes(i * sector, sector);
        if (!bytes) continue;
        const auto label = ondisk::from_bytes<ondisk::LvmLabel>(*bytes);
        if (!stored::begins(label.id, "LABELONE")) continue;
        // Over everything behind the checksum itself (lib/label/label.c).
        const auto sum = checksum(std::span(*bytes).subspan(20));
        if (sum != label.checksum) {
            damaged({ErrorKind::Checksum, "the label fails its checksum",
                     fmt::format("{}@{}+512", source.place(), i * sector),
                     fmt::format("{:08x}", std::uint32_t{label.checksum}), fmt::format("{:08x}", sum)});
            out.refused = fmt::format("the label of {}, which fails its checksum", volume->place);
        }
        out.id.assign(label.uuid.begin(), label.uuid.end());
        // Behind the fixed part: areas for data up to a line of zeros, then areas for metadata.
        std::size_t at = std::min<std::size_t>(label.offset, sector) + 40;
        int list = 0;
        for (int areas = 0; list < 2 && at + sizeof(ondisk::LvmArea) <= sector; at += sizeof(ondisk::LvmArea)) {
            const auto area = ondisk::from_bytes<ondisk::LvmArea>(*bytes, at);
            if (area.offset == 0) {
                ++list;
            } else if (list == 1 && ++areas <= most_areas) {
                auto description = read_area(source, area);
                if (!description || description->refused)
                    damaged(description ? *description->refused : description.error());
                if (description && description->value) out.descriptions.push_back(std::move(*description->value));
                else if (description && !description->refused) out.unused = true;
            }
        }
        out.unused = out.unused && out.descriptions.empty() && out.findings.empty();
        break;
    }
    return out;
}

}  // namespace herberge::lvm
