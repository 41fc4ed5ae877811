// SPDX-License-Identifier: MIT
#include "uefi.hpp"

#include <zlib.h>
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
        put32(one, 4, v.attributes);
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

Bytes make_boot_option(std::string_view title, std::uint32_t partition, std::string_view partition_guid,
                       std::string_view path, bool active, const Bytes& optional) {
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
    out.insert(out.end(), optional.begin(), optional.end());
    return out;
}

Bytes fill_flash(Bytes flash, const std::vector<Variable>& variables) {
    constexpr std::size_t header = 72 + 28;  // of the volume, of the store
    const Bytes own = make_flash(variables);
    const Bytes kind = guid_bytes("aaf32c78-947b-439a-a180-2e144ec37792");
    const auto store = std::search(flash.begin(), flash.end(), kind.begin(), kind.end());
    if (store == flash.end() || flash.end() - store < static_cast<std::ptrdiff_t>(own.size())) return {};
    std::copy(own.begin() + header, own.end(), store + 28);
    return flash;
}

Bytes make_efi_application(const std::vector<std::pair<std::string, Bytes>>& sections, std::uint16_t machine) {
    return make_pe({machine, 10, {}, sections, true});
}

Bytes with_efi_stub(Bytes kernel) {
    constexpr std::size_t pe = 0x40;
    constexpr std::size_t optional = pe + 24;
    constexpr std::size_t directories = 6;
    constexpr std::size_t table = optional + 112 + directories * 8;
    constexpr std::uint32_t head = 0x200;
    constexpr std::uint32_t alignment = 0x20;
    const std::size_t built = kernel.size();
    while (kernel.size() % alignment != 0) kernel.push_back(0);
    std::fill_n(kernel.begin(), table + 40, std::uint8_t{0});
    const auto size = static_cast<std::uint32_t>(kernel.size());
    std::copy_n("MZ", 2, kernel.begin());
    put32(kernel, 0x3C, pe);
    std::copy_n("PE", 2, kernel.begin() + pe);
    put16(kernel, pe + 4, 0x8664);
    put16(kernel, pe + 6, 1);
    put16(kernel, pe + 20, table - optional);
    put16(kernel, pe + 22, 0x206);
    put16(kernel, optional, 0x20B);
    put32(kernel, optional + 16, head);  // where its code begins
    put32(kernel, optional + 32, alignment);
    put32(kernel, optional + 36, alignment);
    put32(kernel, optional + 56, size);
    put32(kernel, optional + 60, head);
    put16(kernel, optional + 68, 10);
    put32(kernel, optional + 108, directories);
    std::copy_n(".text", 5, kernel.begin() + table);
    for (const std::size_t at : {8U, 16U}) put32(kernel, table + at, size - head);
    for (const std::size_t at : {12U, 20U}) put32(kernel, table + at, head);
    put32(kernel, table + 36, 0x60500020);
    // The build's checksum covers the head, too.
    put32(kernel, built - 4, static_cast<std::uint32_t>(crc32_z(0, kernel.data(), built - 4)) ^ 0xFFFFFFFFU);
    return kernel;
}

Bytes make_unified_kernel(std::string_view os_release, std::string_view command_line, const Bytes& kernel,
                          const Bytes& ramdisk) {
    return make_efi_application({{".osrel", to_bytes(os_release)},
                                 {".cmdline", to_bytes(command_line)},
                                 {".linux", kernel},
                                 {".initrd", ramdisk}});
}

}  // namespace forge
