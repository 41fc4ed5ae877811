// SPDX-License-Identifier: MIT
// Writes registry hives and their logs.
#include <algorithm>
#include <cctype>
#include <stdexcept>

#include "windows.hpp"

namespace forge {

namespace {

constexpr std::uint32_t none = 0xFFFFFFFF;

class HiveWriter {
public:
    explicit HiveWriter(const HiveOptions& options) : o_(options) {}

    Bytes write(const HiveNode& root) {
        const std::uint32_t security = put_cell(security_cell());
        const std::uint32_t top = node(root, none, security, true);
        // Bins of one piece: header, cells, one free cell to the end.
        const std::size_t used = 32 + cells_.size();
        const std::size_t bins = (used + 8 + 4095) / 4096 * 4096;
        Bytes out(4096 + bins);
        std::copy_n("regf", 4, out.begin());
        put32(out, 4, o_.primary);
        put32(out, 8, o_.secondary);
        put32(out, 20, 1);
        put32(out, 24, 5);
        put32(out, 32, 1);
        put32(out, 36, top);
        put32(out, 40, static_cast<std::uint32_t>(bins));
        put32(out, 44, 1);
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i < 508; i += 4) sum ^= get32(out, i);
        put32(out, 508, sum == 0 ? 1 : sum == none ? none - 1 : sum);
        std::copy_n("hbin", 4, out.begin() + 4096);
        put32(out, 4096 + 8, static_cast<std::uint32_t>(bins));
        std::copy(cells_.begin(), cells_.end(), out.begin() + 4096 + 32);
        put32(out, 4096 + used, static_cast<std::uint32_t>(bins - used));
        return out;
    }

private:
    static Bytes security_cell() {
        Bytes out(28);
        out[0] = 's';
        out[1] = 'k';
        put32(out, 4, 32);
        put32(out, 8, 32);
        put32(out, 12, 1);
        put32(out, 16, 8);
        return out;
    }

    /// Returns the cell's place as keys name it: from the first bin's start.
    std::uint32_t put_cell(const Bytes& content) {
        const std::size_t at = cells_.size();
        const std::size_t size = (content.size() + 4 + 7) / 8 * 8;
        cells_.resize(at + size);
        put32(cells_, at, static_cast<std::uint32_t>(-static_cast<std::int32_t>(size)));
        std::copy(content.begin(), content.end(), cells_.begin() + static_cast<std::ptrdiff_t>(at + 4));
        return static_cast<std::uint32_t>(at + 32);
    }

    static std::string upper(std::string text) {
        std::transform(text.begin(), text.end(), text.begin(),
                       [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
        return text;
    }

    std::uint32_t value(const HiveEntry& entry) {
        Bytes out(20);
        out[0] = 'v';
        out[1] = 'k';
        put16(out, 2, static_cast<std::uint16_t>(entry.name.size()));
        if (entry.data.size() <= 4) {
            put32(out, 4, static_cast<std::uint32_t>(entry.data.size()) | 0x80000000U);
            Bytes inside = entry.data;
            inside.resize(4);
            std::copy(inside.begin(), inside.end(), out.begin() + 8);
        } else if (entry.data.size() <= 16344) {
            put32(out, 4, static_cast<std::uint32_t>(entry.data.size()));
            put32(out, 8, put_cell(entry.data));
        } else {
            put32(out, 4, static_cast<std::uint32_t>(entry.data.size()));
            Bytes list;
            std::uint16_t pieces = 0;
            for (std::size_t at = 0; at < entry.data.size(); at += 16344, ++pieces) {
                const std::size_t length = std::min<std::size_t>(16344, entry.data.size() - at);
                Bytes piece(entry.data.begin() + static_cast<std::ptrdiff_t>(at),
                            entry.data.begin() + static_cast<std::ptrdiff_t>(at + length));
                put32(list, list.size(), put_cell(piece));
            }
            Bytes head(8);
            head[0] = 'd';
            head[1] = 'b';
            put16(head, 2, pieces);
            put32(head, 4, put_cell(list));
            put32(out, 8, put_cell(head));
        }
        put32(out, 12, entry.type);
        put16(out, 16, 1);
        out.insert(out.end(), entry.name.begin(), entry.name.end());
        return put_cell(out);
    }

    std::uint32_t list_of(const std::vector<std::pair<std::string, std::uint32_t>>& keys, std::size_t from,
                          std::size_t to, bool hashed, const char* mark) {
        Bytes out(4);
        out[0] = static_cast<std::uint8_t>(mark[0]);
        out[1] = static_cast<std::uint8_t>(mark[1]);
        put16(out, 2, static_cast<std::uint16_t>(to - from));
        for (std::size_t i = from; i < to; ++i) {
            put32(out, out.size(), keys[i].second);
            if (!hashed) continue;
            std::uint32_t hash = 0;
            for (const char c : upper(keys[i].first)) hash = hash * 37 + static_cast<unsigned char>(c);
            put32(out, out.size(), hash);
        }
        return put_cell(out);
    }

    std::uint32_t node(const HiveNode& key, std::uint32_t parent, std::uint32_t security, bool root) {
        Bytes out(76);
        out[0] = 'n';
        out[1] = 'k';
        put16(out, 2, root ? 0x2C : 0x20);
        put32(out, 16, parent);
        put32(out, 20, static_cast<std::uint32_t>(key.children.size()));
        put32(out, 28, none);
        put32(out, 32, none);
        put32(out, 36, static_cast<std::uint32_t>(key.values.size()));
        put32(out, 40, none);
        put32(out, 44, security);
        put32(out, 48, none);
        put16(out, 72, static_cast<std::uint16_t>(key.name.size()));
        out.insert(out.end(), key.name.begin(), key.name.end());
        const std::uint32_t place = put_cell(out);
        auto patch = [&](std::size_t field, std::uint32_t what) { put32(cells_, place - 32 + 4 + field, what); };
        if (!key.values.empty()) {
            Bytes list;
            for (const auto& entry : key.values) {
                const std::uint32_t at = value(entry);
                put32(list, list.size(), at);
            }
            patch(40, put_cell(list));
        }
        if (key.children.empty()) return place;
        std::vector<const HiveNode*> sorted;
        for (const auto& c : key.children) sorted.push_back(&c);
        std::sort(sorted.begin(), sorted.end(),
                  [](const HiveNode* a, const HiveNode* b) { return upper(a->name) < upper(b->name); });
        std::vector<std::pair<std::string, std::uint32_t>> keys;
        for (const auto* c : sorted) keys.emplace_back(c->name, node(*c, place, security, false));
        if (o_.lists == ListKind::Indexed) {
            Bytes index(4);
            index[0] = 'r';
            index[1] = 'i';
            std::uint16_t parts = 0;
            for (std::size_t at = 0; at < keys.size(); at += 4, ++parts) {
                const std::uint32_t part = list_of(keys, at, std::min(keys.size(), at + 4), true, "lh");
                put32(index, index.size(), part);
            }
            put16(index, 2, parts);
            patch(28, put_cell(index));
        } else {
            patch(28, list_of(keys, 0, keys.size(), o_.lists != ListKind::Plain,
                              o_.lists == ListKind::Hash   ? "lh"
                              : o_.lists == ListKind::Fast ? "lf"
                                                           : "li"));
        }
        return place;
    }

    const HiveOptions& o_;
    Bytes cells_;
};

std::uint32_t turn(std::uint32_t value, unsigned bits) { return value << bits | value >> (32 - bits); }

/// Marvin32 as the logs use it, written down a second time on purpose.
std::uint64_t log_hash(std::span<const std::uint8_t> bytes) {
    std::uint32_t a = 0x7A4E55C5;
    std::uint32_t b = 0x82EF4D88;
    Bytes padded(bytes.begin(), bytes.end());
    padded.push_back(0x80);
    while (padded.size() % 4 != 0) padded.push_back(0);
    padded.resize(padded.size() + 4);
    for (std::size_t i = 0; i < padded.size(); i += 4) {
        a += get32(padded, i);
        b ^= a;
        a = turn(a, 20) + b;
        b = turn(b, 9) ^ a;
        a = turn(a, 27) + b;
        b = turn(b, 19);
    }
    return std::uint64_t{b} << 32U | a;
}

}  // namespace

Bytes utf16(std::string_view text, bool with_zero) {
    Bytes out;
    for (const char c : text) put16(out, out.size(), static_cast<unsigned char>(c));
    if (with_zero) put16(out, out.size(), 0);
    return out;
}

HiveNode& HiveNode::child(const std::string& path) {
    const auto slash = path.find('\\');
    const std::string first = path.substr(0, slash);
    auto found = std::find_if(children.begin(), children.end(), [&](const HiveNode& n) { return n.name == first; });
    if (found == children.end()) {
        children.push_back({first, {}, {}});
        found = children.end() - 1;
    }
    return slash == std::string::npos ? *found : found->child(path.substr(slash + 1));
}
HiveNode& HiveNode::bytes(const std::string& value, Bytes content, std::uint32_t type) {
    std::erase_if(values, [&](const HiveEntry& e) { return e.name == value; });
    values.push_back({value, type, std::move(content)});
    return *this;
}
HiveNode& HiveNode::text(const std::string& value, const std::string& content, std::uint32_t type) {
    return bytes(value, utf16(content), type);
}
HiveNode& HiveNode::number(const std::string& value, std::uint32_t content) {
    Bytes data;
    put32(data, 0, content);
    return bytes(value, data, 4);
}
HiveNode& HiveNode::texts(const std::string& value, const std::vector<std::string>& content) {
    Bytes data;
    for (const auto& line : content) {
        const Bytes one = utf16(line);
        data.insert(data.end(), one.begin(), one.end());
    }
    put16(data, data.size(), 0);
    return bytes(value, data, 7);
}

Bytes make_hive(const HiveNode& root, const HiveOptions& options) { return HiveWriter(options).write(root); }

Bytes make_hive_log(const Bytes& hive, std::uint32_t sequence,
                    const std::vector<std::pair<std::uint32_t, Bytes>>& pages) {
    Bytes out(hive.begin(), hive.begin() + 512);
    put32(out, 4, sequence);
    put32(out, 8, sequence);
    put32(out, 28, 6);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 508; i += 4) sum ^= get32(out, i);
    put32(out, 508, sum);
    Bytes entry(40);
    std::copy_n("HvLE", 4, entry.begin());
    put32(entry, 12, sequence);
    put32(entry, 16, get32(hive, 40));
    put32(entry, 20, static_cast<std::uint32_t>(pages.size()));
    for (const auto& [offset, content] : pages) {
        put32(entry, entry.size(), offset);
        put32(entry, entry.size(), static_cast<std::uint32_t>(content.size()));
    }
    for (const auto& page : pages) entry.insert(entry.end(), page.second.begin(), page.second.end());
    entry.resize((entry.size() + 511) / 512 * 512);
    put32(entry, 4, static_cast<std::uint32_t>(entry.size()));
    put64(entry, 24, log_hash(std::span(entry).subspan(40)));
    put64(entry, 32, log_hash(std::span(entry).first(32)));
    out.insert(out.end(), entry.begin(), entry.end());
    return out;
}

Bytes partition_device(std::uint64_t offset, std::uint32_t signature) {
    Bytes out(88);
    put32(out, 16, 6);
    put32(out, 24, 72);
    put64(out, 32, offset);
    put32(out, 52, 1);
    put32(out, 56, signature);
    return out;
}

HiveNode make_store(const std::vector<StoreEntry>& systems, std::uint64_t boot_offset, std::uint32_t boot_signature) {
    HiveNode root{"NewStoreRoot", {}, {}};
    root.child("Description").text("KeyName", "BCD00000000");
    auto element = [&](const std::string& id, const char* type) -> HiveNode& {
        return root.child("Objects\\" + id + "\\Elements\\" + type);
    };
    const std::string manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    const std::string common = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}";
    root.child("Objects\\" + manager + "\\Description").number("Type", 0x10100002);
    element(manager, "11000001").bytes("Element", partition_device(boot_offset, boot_signature));
    element(manager, "12000004").text("Element", "Windows Boot Manager");
    Bytes timeout(8);
    timeout[0] = 10;
    element(manager, "25000004").bytes("Element", timeout);
    std::vector<std::string> order;
    for (const auto& s : systems) order.push_back(s.id);
    if (!order.empty()) element(manager, "23000003").text("Element", order.front());
    element(manager, "24000001").texts("Element", order);
    root.child("Objects\\" + common + "\\Description").number("Type", 0x20200003);
    for (const auto& s : systems) {
        root.child("Objects\\" + s.id + "\\Description").number("Type", 0x10200003);
        element(s.id, "11000001").bytes("Element", partition_device(s.partition_offset, s.disk_signature));
        element(s.id, "12000002").text("Element", s.path);
        element(s.id, "12000004").text("Element", s.description);
        element(s.id, "14000006").texts("Element", {common});
        element(s.id, "21000001").bytes("Element", partition_device(s.partition_offset, s.disk_signature));
        element(s.id, "22000002").text("Element", s.system_root);
    }
    return root;
}

namespace {

/// "{0a1b0f00-0000-4000-8000-00000000c002}" as it is stored.
Bytes guid_bytes(const std::string& text) {
    Bytes digits;
    std::string hex;
    for (const char c : text)
        if (c != '{' && c != '}' && c != '-') hex += c;
    for (std::size_t i = 0; i + 1 < hex.size(); i += 2)
        digits.push_back(static_cast<std::uint8_t>(std::stoul(hex.substr(i, 2), nullptr, 16)));
    std::swap(digits[0], digits[3]);
    std::swap(digits[1], digits[2]);
    std::swap(digits[4], digits[5]);
    std::swap(digits[6], digits[7]);
    return digits;
}

}  // namespace

Bytes ram_disk_device(const Bytes& options_guid, const Bytes& partition, std::string_view path) {
    // Options, a local device of the kind RAM disk, then a file: its partition and its path.
    Bytes out(options_guid);
    grow(out, 32);
    put32(out, 32, 3);
    grow(out, 72);
    put32(out, 60, 1);
    put32(out, 68, 5);
    out.insert(out.end(), partition.begin() + 16, partition.end());
    const Bytes name = utf16(path);
    out.insert(out.end(), name.begin(), name.end());
    put32(out, 64, static_cast<std::uint32_t>(out.size() - 60));
    put32(out, 24, static_cast<std::uint32_t>(out.size() - 16));
    return out;
}

void add_recovery(HiveNode& store, const std::string& of, const RecoveryEntry& recovery) {
    auto element = [&](const std::string& id, const char* type) -> HiveNode& {
        return store.child("Objects\\" + id + "\\Elements\\" + type);
    };
    const Bytes partition = partition_device(recovery.partition_offset, recovery.disk_signature);
    const Bytes device = ram_disk_device(guid_bytes(recovery.options_id), partition, recovery.image);
    element(of, "14000008").texts("Element", {recovery.id});
    element(of, "16000009").bytes("Element", {1});
    store.child("Objects\\" + recovery.id + "\\Description").number("Type", 0x10200003);
    element(recovery.id, "11000001").bytes("Element", device);
    element(recovery.id, "12000002").text("Element", recovery.loader);
    element(recovery.id, "12000004").text("Element", recovery.description);
    element(recovery.id, "21000001").bytes("Element", device);
    element(recovery.id, "22000002").text("Element", "\\windows");
    element(recovery.id, "26000022").bytes("Element", {1});
    store.child("Objects\\" + recovery.options_id + "\\Description").number("Type", 0x30000000);
    element(recovery.options_id, "31000003").bytes("Element", partition);
    element(recovery.options_id, "32000004").text("Element", recovery.head);
}

}  // namespace forge
