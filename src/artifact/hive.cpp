// SPDX-License-Identifier: MIT
#include <herberge/hive.hpp>

#include <fmt/format.h>
#include <algorithm>
#include <atomic>

#include "artifact/hive_log.hpp"
#include "artifact/hive_whole.hpp"
#include "bytes/lost.hpp"
#include "bytes/text16.hpp"
#include "ondisk/hive.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t bins_at = 4096;
constexpr std::uint32_t none = 0xFFFFFFFF;
constexpr std::uint32_t most_keys = 200'000;
constexpr std::uint64_t most_read = std::uint64_t{512} << 20U;
constexpr std::uint32_t most_value = 64U << 20U;
constexpr std::size_t big_piece = 16344;

bool marked(std::span<const std::uint8_t> bytes, std::string_view mark) {
    return bytes.size() >= mark.size() &&
           std::equal(mark.begin(), mark.end(), bytes.begin(),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

class HiveFile : public Hive {
public:
    HiveFile(Source source, const ondisk::HiveBase& base, HiveState state)
        : source_(std::move(source)), base_(base), state_(state) {}

    /// What the loader checks before it uses a hive: every bin's header, and the root key.
    Result<void> check() {
        const std::uint64_t size = base_.bins_size;
        if (size == 0 || bins_at + size > source_->size())
            return fail(ErrorKind::OutOfRange, "the hive is cut short", source_->place(),
                        fmt::format("{} bytes", bins_at + size), fmt::format("{} bytes", source_->size()));
        for (std::uint64_t at = 0; at < size;) {
            const auto bin = source_->load<ondisk::HiveBin>(bins_at + at);
            if (!bin) return tl::unexpected(bin.error());
            if (!marked(bin->mark, "hbin") || bin->offset != at || bin->size == 0 || bin->size % 4096 != 0 ||
                bin->size > size - at)
                return fail(ErrorKind::Malformed,
                            fmt::format("the bin at byte {} of the hive is damaged", bins_at + at), source_->place(),
                            "hbin", hex(bin->mark));
            at += bin->size;
        }
        const auto key = node(base_.root_cell);
        if (!key) return tl::unexpected(key.error());
        return {};
    }

    [[nodiscard]] HiveState state() const override { return state_; }
    [[nodiscard]] HiveKeyId root() const override { return base_.root_cell; }
    [[nodiscard]] const std::vector<Finding>& findings() const override { return findings_; }
    void add(Finding finding) { findings_.push_back(std::move(finding)); }

    [[nodiscard]] Result<std::string> name(HiveKeyId key) const override {
        const auto bytes = cell(key);
        if (!bytes) return tl::unexpected(bytes.error());
        const auto k = node(key);
        if (!k) return tl::unexpected(k.error());
        return name_in(*bytes, sizeof(ondisk::HiveKey), k->name_length, (k->flags & 0x20U) != 0);
    }

    [[nodiscard]] Result<std::vector<HiveKeyId>> subkeys(HiveKeyId key) const override {
        const auto k = node(key);
        if (!k) return tl::unexpected(k.error());
        std::vector<HiveKeyId> out;
        if (k->subkeys == 0 || k->subkey_list == none) return out;
        if (auto done = take_list(k->subkey_list, out, 0); !done) return tl::unexpected(done.error());
        return out;
    }

    [[nodiscard]] Result<HiveKeyId> subkey(HiveKeyId key, std::string_view wanted) const override {
        const auto all = subkeys(key);
        if (!all) return tl::unexpected(all.error());
        std::optional<Error> damage;
        for (const auto id : *all) {
            const auto found = name(id);
            if (!found) damage = found.error();
            else if (same_name(*found, wanted)) return id;
        }
        if (damage) return tl::unexpected(*damage);
        return fail(ErrorKind::NotFound, fmt::format("no key named {}", printable(wanted)), source_->place());
    }

    [[nodiscard]] Result<std::vector<HiveValue>> values(HiveKeyId key) const override {
        std::vector<HiveValue> out;
        auto done = each_value(key, [&](HiveValue value) {
            out.push_back(std::move(value));
            return true;
        });
        if (!done && out.empty()) return tl::unexpected(done.error());
        return out;
    }

    [[nodiscard]] Result<HiveValue> value(HiveKeyId key, std::string_view wanted) const override {
        std::optional<HiveValue> hit;
        auto done = each_value(key, [&](HiveValue value) {
            if (!same_name(value.name, wanted)) return true;
            hit = std::move(value);
            return false;
        });
        if (hit) return std::move(*hit);
        if (!done) return tl::unexpected(done.error());
        return fail(ErrorKind::NotFound, fmt::format("no value named {}", printable(wanted)), source_->place());
    }

private:
    /// The bytes of a cell behind its size. Negative sizes are in use.
    [[nodiscard]] Result<std::vector<std::uint8_t>> cell(std::uint32_t at) const {
        if (at == none || at % 8 != 0 || std::uint64_t{at} + 4 > base_.bins_size)
            return fail(ErrorKind::OutOfRange, "a cell outside the hive", source_->place(), {},
                        fmt::format("{:#x}", at));
        const auto size = source_->load<ondisk::little_int32_t>(bins_at + at);
        if (!size) return tl::unexpected(size.error());
        const std::int64_t length = -std::int64_t{*size};
        if (length < 8 || at + static_cast<std::uint64_t>(length) > base_.bins_size)
            return fail(ErrorKind::Malformed, "a cell that is not in use or does not fit",
                        fmt::format("{} cell {:#x}", source_->place(), at));
        // Lists may name the same cell again and again: what is read counts, however small the hive is.
        if (spent_.fetch_add(static_cast<std::uint64_t>(length), std::memory_order_relaxed) > most_read)
            return fail(ErrorKind::TooLarge, "a hive whose lists lead to the same cells again and again",
                        source_->place());
        return source_->bytes(bins_at + at + 4, static_cast<std::uint64_t>(length) - 4);
    }

    [[nodiscard]] Result<ondisk::HiveKey> node(std::uint32_t at) const {
        const auto bytes = cell(at);
        if (!bytes) return tl::unexpected(bytes.error());
        const auto key = ondisk::from_bytes<ondisk::HiveKey>(*bytes);
        if (bytes->size() < sizeof(key) || !marked(key.mark, "nk"))
            return fail(ErrorKind::Malformed, "a key without its mark",
                        fmt::format("{} cell {:#x}", source_->place(), at), "nk", hex(key.mark));
        return key;
    }

    static std::string name_in(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t length, bool narrow) {
        if (at > bytes.size()) return {};
        const auto raw = bytes.subspan(at, std::min(length, bytes.size() - at));
        if (!narrow) return utf8_from(units_from(raw));
        std::u16string wide;
        for (const auto c : raw) wide += static_cast<char16_t>(c);  // Latin-1
        return utf8_from(wide);
    }

    Result<void> take_list(std::uint32_t at, std::vector<HiveKeyId>& out, int depth) const {
        const auto bytes = cell(at);
        if (!bytes) return tl::unexpected(bytes.error());
        const auto head = ondisk::from_bytes<ondisk::HiveList>(*bytes);
        const bool pairs = marked(*bytes, "lf") || marked(*bytes, "lh");
        const bool plain = marked(*bytes, "li");
        const bool lists = marked(*bytes, "ri");
        if (!pairs && !plain && !lists)
            return fail(ErrorKind::Malformed, "a list of keys without its mark",
                        fmt::format("{} cell {:#x}", source_->place(), at));
        const std::size_t step = pairs ? sizeof(ondisk::HiveHashed) : sizeof(std::uint32_t);
        for (std::size_t i = 0; i < head.count && sizeof(head) + (i + 1) * step <= bytes->size(); ++i) {
            const std::uint32_t id = ondisk::from_bytes<ondisk::little_uint32_t>(*bytes, sizeof(head) + i * step);
            if (lists) {
                // A list of lists never holds another one.
                if (depth > 0) return fail(ErrorKind::Malformed, "lists of keys that nest too deep", source_->place());
                if (auto done = take_list(id, out, depth + 1); !done) return done;
            } else {
                out.push_back(id);
            }
            if (out.size() > most_keys)
                return fail(ErrorKind::TooLarge, "a key with too many subkeys", source_->place());
        }
        return {};
    }

    template <class Visit>
    Result<void> each_value(HiveKeyId key, const Visit& visit) const {
        const auto k = node(key);
        if (!k) return tl::unexpected(k.error());
        if (k->values == 0 || k->value_list == none) return {};
        const auto list = cell(k->value_list);
        if (!list) return tl::unexpected(list.error());
        std::optional<Error> damage;
        for (std::size_t i = 0; i < k->values && (i + 1) * 4 <= list->size(); ++i) {
            auto value = read_value(ondisk::from_bytes<ondisk::little_uint32_t>(*list, i * 4));
            if (!value) damage = value.error();
            else if (!visit(std::move(*value))) return {};
        }
        if (damage) return tl::unexpected(*damage);
        return {};
    }

    [[nodiscard]] Result<HiveValue> read_value(std::uint32_t at) const {
        const auto bytes = cell(at);
        if (!bytes) return tl::unexpected(bytes.error());
        const auto v = ondisk::from_bytes<ondisk::HiveValueCell>(*bytes);
        if (bytes->size() < sizeof(v) || !marked(v.mark, "vk"))
            return fail(ErrorKind::Malformed, "a value without its mark",
                        fmt::format("{} cell {:#x}", source_->place(), at));
        HiveValue out;
        out.name = name_in(*bytes, sizeof(v), v.name_length, (v.flags & 1U) != 0);
        out.type = v.type;
        const std::uint32_t size = v.size & 0x7FFFFFFFU;
        if ((v.size & 0x80000000U) != 0) {
            if (size > 4) return fail(ErrorKind::Malformed, "a short value that is too long", source_->place());
            const std::uint32_t inside = v.data;
            for (unsigned i = 0; i < size; ++i) out.data.push_back(static_cast<std::uint8_t>(inside >> (8 * i)));
            return out;
        }
        if (size == 0) return out;
        if (size > most_value)
            return fail(ErrorKind::TooLarge, "a value that claims to be too large", source_->place(), {},
                        size_text(size));
        const auto data = cell(v.data);
        if (!data) return tl::unexpected(data.error());
        if (size > big_piece && marked(*data, "db")) return big_value(std::move(out), *data, size);
        if (data->size() < size) return fail(ErrorKind::Malformed, "a value longer than its cell", source_->place());
        out.data.assign(data->begin(), data->begin() + static_cast<std::ptrdiff_t>(size));
        return out;
    }

    [[nodiscard]] Result<HiveValue> big_value(HiveValue out, const std::vector<std::uint8_t>& head,
                                              std::uint32_t size) const {
        const auto big = ondisk::from_bytes<ondisk::HiveBigData>(head);
        const auto list = cell(big.list);
        if (!list) return tl::unexpected(list.error());
        for (std::size_t i = 0; i < big.count && (i + 1) * 4 <= list->size() && out.data.size() < size; ++i) {
            const auto piece = cell(ondisk::from_bytes<ondisk::little_uint32_t>(*list, i * 4));
            if (!piece) return tl::unexpected(piece.error());
            const std::size_t take = std::min({big_piece, piece->size(), size - out.data.size()});
            out.data.insert(out.data.end(), piece->begin(), piece->begin() + static_cast<std::ptrdiff_t>(take));
        }
        if (out.data.size() < size) return fail(ErrorKind::OutOfRange, "a large value lacks pieces", source_->place());
        return out;
    }

    mutable std::atomic<std::uint64_t> spent_{0};  ///< bytes of cells
    Source source_;
    ondisk::HiveBase base_;
    HiveState state_;
    std::vector<Finding> findings_;
};

}  // namespace

std::string HiveValue::text() const {
    if (type != 1 && type != 2 && type != 7) return {};
    return utf8_from(units_from(data, false, true));
}

std::vector<std::string> HiveValue::texts(bool with_empty) const {
    std::vector<std::string> out;
    std::u16string one;
    for (const char16_t c : units_from(data)) {
        if (c != 0) {
            one += c;
            continue;
        }
        if (!one.empty() || with_empty) out.push_back(utf8_from(one));
        one.clear();
    }
    if (!one.empty()) out.push_back(utf8_from(one));
    return out;
}

std::optional<std::uint64_t> HiveValue::number() const {
    if (data.empty() || data.size() > 8) return std::nullopt;
    std::uint64_t out = 0;
    for (std::size_t i = 0; i < data.size(); ++i) out |= std::uint64_t{data[i]} << (8 * i);
    return out;
}

Result<HiveKeyId> Hive::at(std::string_view path) const {
    HiveKeyId key = root();
    while (!path.empty()) {
        const auto end = std::min(path.find('\\'), path.size());
        if (end > 0) {
            auto next = subkey(key, path.substr(0, end));
            if (!next) return next;
            key = *next;
        }
        path.remove_prefix(std::min(end + 1, path.size()));
    }
    return key;
}

std::optional<std::string> Hive::text_at(std::string_view path, std::string_view name) const {
    const auto key = at(path);
    const auto found = key ? value(*key, name) : tl::unexpected(key.error());
    if (!found) return std::nullopt;
    return found->text();
}

std::optional<std::uint64_t> Hive::number_at(std::string_view path, std::string_view name) const {
    const auto key = at(path);
    const auto found = key ? value(*key, name) : tl::unexpected(key.error());
    return found ? found->number() : std::nullopt;
}

Result<std::shared_ptr<const Hive>> open_hive(Source file, const std::vector<Source>& logs) {
    const std::string place = file->place();
    if (file->size() < sizeof(ondisk::HiveBase))
        return fail(ErrorKind::OutOfRange, file->size() == 0 ? "the hive is empty" : "the hive is cut short", place);
    auto base = file->load<ondisk::HiveBase>(0);
    if (!base) return tl::unexpected(base.error());
    const bool head_good = marked(base->mark, "regf") && hive::checksum_holds(*base);
    HiveState state = HiveState::Clean;
    std::vector<Finding> findings;
    if (!head_good || base->primary_sequence != base->secondary_sequence) {
        auto replayed = hive::replay(file, *base, head_good, logs);
        if (replayed) {
            file = replayed->source;
            base = replayed->base;
            state = HiveState::Recovered;
            findings.push_back(make_finding(
                Code::HiveRecovered,
                fmt::format("{} was not written to its end; its log makes it whole ({} pages)", place, replayed->pages),
                {evidence_bytes(*file, 4, 8)}));
        } else if (!head_good) {
            return fail(ErrorKind::Checksum, "the hive's base block is damaged and no log restores it", place,
                        "regf with its checksum", hex(base->mark));
        } else {
            state = HiveState::Unrecovered;
            findings.push_back(
                make_finding(Code::HiveDirty, fmt::format("{} was not written to its end, and no log fits it", place),
                             {evidence_bytes(*file, 4, 8, "two equal numbers",
                                             fmt::format("{} and {}", std::uint32_t{base->primary_sequence},
                                                         std::uint32_t{base->secondary_sequence}))}));
        }
    }
    if (base->major != 1)
        return fail(ErrorKind::Unsupported,
                    fmt::format("a hive of version {}.{}", std::uint32_t{base->major}, std::uint32_t{base->minor}),
                    place);
    auto out = std::make_shared<HiveFile>(std::move(file), *base, state);
    if (auto good = out->check(); !good) return tl::unexpected(good.error());
    for (auto& finding : findings) out->add(std::move(finding));
    return out;
}

std::optional<Error> lost_of_hive(const ByteSource& file) {
    constexpr std::uint64_t most = std::uint64_t{512} << 20U;
    const auto base = file.load<ondisk::HiveBase>(0);
    if (!base) return base.error().unreadable() ? std::optional(base.error()) : std::nullopt;
    return lost_within(file, 0, std::min(std::uint64_t{bins_at} + base->bins_size, most));
}

}  // namespace herberge
