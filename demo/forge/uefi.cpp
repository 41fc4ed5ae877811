// SPDX-License-Identifier: MIT
#include "uefi.hpp"

#include <algorithm>

namespace forge {

Bytes guid_bytes(std::string_view text) {
    Bytes raw;
    unsigned half = 0;
    bool second = false;
    for (const char c : text) {
        if (c == '-') continue;
        const unsigned value = c <= '9' ? static_cast<unsigned>(c - '0') : static_cast<unsigned>((c | 0x20) - 'a' + 10);
        if (second) raw.push_back(static_cast<std::uint8_t>(half << 4U | value));
        half = value;
        second = !second;
    }
    raw.resize(16);
    std::reverse(raw.begin(), raw.begin() + 4);
    std::swap(raw[4], raw[5]);
    std::swap(raw[6], raw[7]);
    return raw;
}

Bytes make_flash(const std::vector<Variable>& variables) {
    constexpr std::size_t volume_header = 72;
    constexpr std::size_t store_size = 32768;
    Bytes store(store_size, 0xFF);
    const Bytes kind = guid_bytes("aaf32c78-947b-439a-a180-2e144ec37792");
    std::copy(kind.begin(), kind.end(), store.begin());
    put32(store, 16, store_size);
    store[20] = 0x5A;
    store[21] = 0xFE;
    std::fill_n(store.begin() + 22, 6, std::uint8_t{0});
    std::size_t at = 28;
    for (const auto& v : variables) {
        const Bytes name = utf16(v.name);
        Bytes one(60);
        put16(one, 0, 0x55AA);
        one[2] = v.state;
        put32(one, 4, 7);
        put32(one, 36, static_cast<std::uint32_t>(name.size()));
        put32(one, 40, static_cast<std::uint32_t>(v.data.size()));
        const Bytes vendor = guid_bytes(v.guid);
        std::copy(vendor.begin(), vendor.end(), one.begin() + 44);
        one.insert(one.end(), name.begin(), name.end());
        one.insert(one.end(), v.data.begin(), v.data.end());
        while (one.size() % 4 != 0) one.push_back(0xFF);
        std::copy(one.begin(), one.end(), store.begin() + static_cast<std::ptrdiff_t>(at));
        at += one.size();
    }
    Bytes out(volume_header + store.size());
    std::copy_n("_FVH", 4, out.begin() + 40);
    std::copy(store.begin(), store.end(), out.begin() + volume_header);
    return out;
}

Bytes make_boot_option(std::string_view title, std::uint32_t partition, std::string_view partition_guid, std::string_view path, bool active) {
    Bytes nodes{4, 1, 42, 0};
    put32(nodes, 4, partition);
    put64(nodes, 8, 2048);
    put64(nodes, 16, 4096);
    const Bytes guid = guid_bytes(partition_guid);
    nodes.insert(nodes.end(), guid.begin(), guid.end());
    nodes.push_back(2);
    nodes.push_back(2);
    const Bytes name = utf16(path);
    nodes.push_back(4);
    nodes.push_back(4);
    put16(nodes, nodes.size(), static_cast<std::uint16_t>(4 + name.size()));
    nodes.insert(nodes.end(), name.begin(), name.end());
    put32(nodes, nodes.size(), 0x0004FF7F);  // the end node
    Bytes out;
    put32(out, 0, active ? 1U : 0U);
    put16(out, 4, static_cast<std::uint16_t>(nodes.size()));
    const Bytes text = utf16(title);
    out.insert(out.end(), text.begin(), text.end());
    out.insert(out.end(), nodes.begin(), nodes.end());
    return out;
}

Bytes make_efi_application(const std::vector<std::pair<std::string, Bytes>>& sections, std::uint16_t machine) {
    return make_pe({machine, 10, {}, sections, true});
}

Bytes make_unified_kernel(std::string_view os_release, std::string_view command_line, const Bytes& kernel, const Bytes& ramdisk) {
    return make_efi_application({{".osrel", to_bytes(os_release)}, {".cmdline", to_bytes(command_line)}, {".linux", kernel}, {".initrd", ramdisk}});
}

}  // namespace forge
