// SPDX-License-Identifier: MIT
#include "artifact/hive_writer.hpp"

#include <algorithm>
#include <cstring>
#include <optional>

#include "bytes/text16.hpp"
#include "ondisk/hive.hpp"

namespace herberge {

namespace {

using Bytes = std::vector<std::uint8_t>;

constexpr std::uint32_t no_cell = 0xFFFFFFFFU;
constexpr std::uint32_t inside = 0x80000000U;
constexpr std::size_t base_size = 4096;
constexpr std::size_t most_inline_value = 16344;
constexpr std::size_t most_written_keys = 20000;
constexpr int deepest = 64;
constexpr std::uint16_t one_byte_name = 0x20, root_flags = 0x2C;  // of the root: no deletion, the hive's entry

template <class T>
void append(Bytes& out, const T& value) {
    const auto at = out.size();
    out.resize(at + sizeof(value));
    std::memcpy(out.data() + at, &value, sizeof(value));
}

/// One byte for each character (ISO 8859-1); none: it has others.
std::optional<Bytes> narrow(std::string_view name) {
    Bytes out;
    for (const char16_t unit : utf16_from(name)) {
        if (unit > 0xFF) return std::nullopt;
        out.push_back(static_cast<std::uint8_t>(unit));
    }
    return out;
}

/// A security descriptor ([MS-DTYP] 2.4.6): administrators and the system may do everything.
Bytes security_cell(std::uint32_t keys) {
    static constexpr std::array<std::uint8_t, 16> administrators = {1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0};
    static constexpr std::array<std::uint8_t, 12> system = {1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0};
    constexpr std::uint32_t head = 20, ace_head = 8, all_access = 0xF003F;
    constexpr std::uint32_t acl_at = head, acl_size = 8 + 2 * ace_head + administrators.size() + system.size();
    Bytes descriptor{1, 0, 0x04, 0x80};
    for (const std::uint32_t at : {acl_at + acl_size, acl_at + acl_size, std::uint32_t{0}, acl_at})
        append(descriptor, ondisk::little_uint32_t(at));
    for (const std::uint32_t number : {std::uint32_t{2}, acl_size, std::uint32_t{2}, std::uint32_t{0}})
        append(descriptor, ondisk::little_uint16_t(static_cast<std::uint16_t>(number)));
    const auto allow = [&](std::span<const std::uint8_t> who) {
        append(descriptor, std::uint8_t{0});  // ACCESS_ALLOWED_ACE_TYPE
        append(descriptor, std::uint8_t{2});  // CONTAINER_INHERIT_ACE
        append(descriptor, ondisk::little_uint16_t(static_cast<std::uint16_t>(ace_head + who.size())));
        append(descriptor, ondisk::little_uint32_t(all_access));
        descriptor.insert(descriptor.end(), who.begin(), who.end());
    };
    allow(administrators);
    allow(system);
    descriptor.insert(descriptor.end(), administrators.begin(), administrators.end());
    Bytes out{'s', 'k', 0, 0};
    constexpr std::uint32_t own_place = sizeof(ondisk::HiveBin);  // the first cell, alone in its ring
    for (const std::uint32_t number : {own_place, own_place, keys, static_cast<std::uint32_t>(descriptor.size())})
        append(out, ondisk::little_uint32_t(number));
    out.insert(out.end(), descriptor.begin(), descriptor.end());
    return out;
}

std::uint32_t count_keys(const HiveTree& tree) {
    std::uint32_t out = 1;
    for (const auto& key : tree.keys) out += count_keys(key);
    return out;
}

class Writer {
public:
    Result<Bytes> write(const HiveTree& root) {
        const auto security = put(security_cell(count_keys(root)));
        const auto top = key(root, no_cell, security, true, 0);
        if (!top) return tl::unexpected(top.error());
        const std::size_t used = sizeof(ondisk::HiveBin) + cells_.size();
        const std::size_t bins = (used + 8 + base_size - 1) / base_size * base_size;
        ondisk::HiveBase base{};
        std::memcpy(base.mark.data(), "regf", 4);
        base.primary_sequence = base.secondary_sequence = 1;
        base.major = 1;
        base.minor = 5;
        base.format = 1;
        base.root_cell = *top;
        base.bins_size = static_cast<std::uint32_t>(bins);
        base.clustering = 1;
        Bytes head;
        append(head, base);
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i + 4 < sizeof(base); i += 4)
            sum ^= ondisk::from_bytes<ondisk::little_uint32_t>(head, i);
        base.checksum = sum == 0 ? 1 : sum == 0xFFFFFFFFU ? 0xFFFFFFFEU : sum;
        Bytes out(base_size + bins);
        std::memcpy(out.data(), &base, sizeof(base));
        ondisk::HiveBin bin{};
        std::memcpy(bin.mark.data(), "hbin", 4);
        bin.size = static_cast<std::uint32_t>(bins);
        std::memcpy(out.data() + base_size, &bin, sizeof(bin));
        std::ranges::copy(cells_, out.begin() + base_size + sizeof(bin));
        // The rest is one free cell.
        const ondisk::little_uint32_t rest(static_cast<std::uint32_t>(bins - used));
        std::memcpy(out.data() + base_size + used, &rest, sizeof(rest));
        return out;
    }

private:
    /// Gives the cell's place as keys name it: from the first bin's beginning.
    std::uint32_t put(const Bytes& content) {
        const std::size_t at = cells_.size();
        const std::size_t size = (content.size() + 4 + 7) / 8 * 8;
        append(cells_, ondisk::little_int32_t(-static_cast<std::int32_t>(size)));
        cells_.insert(cells_.end(), content.begin(), content.end());
        cells_.resize(at + size);
        return static_cast<std::uint32_t>(at + sizeof(ondisk::HiveBin));
    }

    Result<std::uint32_t> value(const HiveValue& told) {
        const auto name = narrow(told.name);
        if (!name) return fail(ErrorKind::Malformed, "a value's name has letters that are not written", told.name);
        if (name->size() > 255 || told.data.size() > most_inline_value)
            return fail(ErrorKind::TooLarge, "a value is too long to be written", told.name);
        ondisk::HiveValueCell cell{};
        cell.mark = {'v', 'k'};
        cell.name_length = static_cast<std::uint16_t>(name->size());
        cell.type = told.type;
        cell.flags = 1;
        if (told.data.size() <= 4) {
            Bytes four = told.data;
            four.resize(4);
            cell.size = static_cast<std::uint32_t>(told.data.size()) | inside;
            cell.data = ondisk::from_bytes<ondisk::little_uint32_t>(four);
        } else {
            cell.size = static_cast<std::uint32_t>(told.data.size());
            cell.data = put(told.data);
        }
        Bytes out;
        append(out, cell);
        out.insert(out.end(), name->begin(), name->end());
        return put(out);
    }

    Result<std::uint32_t> key(const HiveTree& tree, std::uint32_t parent, std::uint32_t security, bool root,
                              int depth) {
        const auto name = narrow(tree.name);
        if (!name) return fail(ErrorKind::Malformed, "a key's name has letters that are not written", tree.name);
        if (name->size() > 255 || tree.keys.size() > 0xFFFF || depth > deepest)
            return fail(ErrorKind::TooLarge, "a key is too large to be written", tree.name);
        ondisk::HiveKey cell{};
        cell.mark = {'n', 'k'};
        cell.flags = root ? root_flags : one_byte_name;
        cell.parent = parent;
        cell.subkeys = static_cast<std::uint32_t>(tree.keys.size());
        cell.subkey_list = cell.volatile_list = cell.value_list = cell.class_name = no_cell;
        cell.values = static_cast<std::uint32_t>(tree.values.size());
        cell.security = security;
        cell.name_length = static_cast<std::uint16_t>(name->size());
        // The longest below it, in bytes of UTF-16: a key's name, a class, a value's name, a value.
        std::array<std::uint32_t, 4> longest{};
        for (const auto& one : tree.keys)
            longest[0] = std::max(longest[0], static_cast<std::uint32_t>(utf16_from(one.name).size() * 2));
        for (const auto& one : tree.values) {
            longest[2] = std::max(longest[2], static_cast<std::uint32_t>(utf16_from(one.name).size() * 2));
            longest[3] = std::max(longest[3], static_cast<std::uint32_t>(one.data.size()));
        }
        for (std::size_t i = 0; i < longest.size(); ++i) {
            const ondisk::little_uint32_t number(longest[i]);
            std::memcpy(cell.longest.data() + 4 * i, &number, sizeof(number));
        }
        Bytes out;
        append(out, cell);
        out.insert(out.end(), name->begin(), name->end());
        const auto place = put(out);
        if (auto done = below(tree, place, security, cell, depth); !done) return tl::unexpected(done.error());
        std::memcpy(cells_.data() + place - sizeof(ondisk::HiveBin) + 4, &cell, sizeof(cell));
        return place;
    }

    /// The values and keys of a key; their lists go into its cell.
    Result<void> below(const HiveTree& tree, std::uint32_t place, std::uint32_t security, ondisk::HiveKey& cell,
                       int depth) {
        Bytes values;
        for (const auto& one : tree.values) {
            const auto written = value(one);
            if (!written) return tl::unexpected(written.error());
            append(values, ondisk::little_uint32_t(*written));
        }
        if (!values.empty()) cell.value_list = put(values);
        if (tree.keys.empty()) return {};
        // Searched by halves: in the order of their names in capitals.
        std::vector<std::pair<std::u16string, const HiveTree*>> sorted;
        for (const auto& one : tree.keys) sorted.emplace_back(capitals(one.name), &one);
        std::ranges::sort(sorted);
        Bytes list;
        ondisk::HiveList head{};
        head.mark = {'l', 'h'};
        head.count = static_cast<std::uint16_t>(sorted.size());
        append(list, head);
        for (const auto& [name, one] : sorted) {
            const auto written = key(*one, place, security, false, depth + 1);
            if (!written) return tl::unexpected(written.error());
            ondisk::HiveHashed entry{};
            entry.cell = *written;
            std::uint32_t hash = 0;
            for (const char16_t unit : name) hash = hash * 37 + unit;
            entry.hash = hash;
            append(list, entry);
        }
        cell.subkey_list = put(list);
        return {};
    }

    static std::u16string capitals(std::string_view name) {
        auto out = utf16_from(name);
        for (auto& unit : out) unit = simple_upper(unit);
        return out;
    }

    Bytes cells_;
};

Result<void> read_below(const Hive& hive, HiveKeyId id, HiveTree& out, std::size_t& keys, int depth) {
    if (++keys > most_written_keys || depth > deepest)
        return fail(ErrorKind::TooLarge, "the hive has too many keys, or too many levels", out.name);
    auto values = hive.values(id);
    if (!values) return tl::unexpected(values.error());
    out.values = std::move(*values);
    const auto below = hive.subkeys(id);
    if (!below) return tl::unexpected(below.error());
    for (const auto one : *below) {
        auto name = hive.name(one);
        if (!name) return tl::unexpected(name.error());
        out.keys.push_back({std::move(*name), {}, {}});
        if (auto done = read_below(hive, one, out.keys.back(), keys, depth + 1); !done) return done;
    }
    return {};
}

}  // namespace

HiveTree& HiveTree::at(std::string_view path) {
    const auto slash = std::min(path.find('\\'), path.size());
    const auto first = path.substr(0, slash);
    auto found =
        std::ranges::find_if(keys, [&](const HiveTree& one) { return lower_text(one.name) == lower_text(first); });
    if (found == keys.end()) {
        keys.push_back({std::string(first), {}, {}});
        found = keys.end() - 1;
    }
    return slash == path.size() ? *found : found->at(path.substr(slash + 1));
}

void HiveTree::set(HiveValue value) {
    std::erase_if(values, [&](const HiveValue& one) { return lower_text(one.name) == lower_text(value.name); });
    values.push_back(std::move(value));
}

namespace {
void append_text(Bytes& out, std::string_view text) {
    for (const char16_t unit : utf16_from(text)) append(out, ondisk::little_uint16_t(unit));
    append(out, ondisk::little_uint16_t(0));
}
}  // namespace

void HiveTree::set_text(std::string called, std::string_view text) {
    Bytes data;
    append_text(data, text);
    set({std::move(called), 1, std::move(data)});
}

void HiveTree::set_texts(std::string called, const std::vector<std::string>& texts) {
    Bytes data;
    for (const auto& text : texts) append_text(data, text);
    append(data, ondisk::little_uint16_t(0));
    set({std::move(called), 7, std::move(data)});
}

void HiveTree::set_number(std::string called, std::uint32_t number) {
    Bytes data;
    append(data, ondisk::little_uint32_t(number));
    set({std::move(called), 4, std::move(data)});
}

void HiveTree::set_bytes(std::string called, std::vector<std::uint8_t> bytes) {
    set({std::move(called), 3, std::move(bytes)});
}

Result<HiveTree> read_hive_tree(const Hive& hive) {
    HiveTree out;
    auto name = hive.name(hive.root());
    if (!name) return tl::unexpected(name.error());
    out.name = std::move(*name);
    std::size_t keys = 0;
    if (auto done = read_below(hive, hive.root(), out, keys, 0); !done) return tl::unexpected(done.error());
    return out;
}

Result<std::vector<std::uint8_t>> write_hive(const HiveTree& root) { return Writer().write(root); }

}  // namespace herberge
