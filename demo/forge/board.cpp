// SPDX-License-Identifier: MIT
#include "board.hpp"

#include <algorithm>

#include <openssl/sha.h>
#include <zlib.h>

namespace forge {

namespace {

void put_big32(Bytes& out, std::size_t at, std::uint32_t value) {
    grow(out, at + 4);
    for (std::size_t i = 0; i < 4; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
}
void add_big32(Bytes& out, std::uint32_t value) { put_big32(out, out.size(), value); }
void add(Bytes& out, const Bytes& more) {
    const std::size_t at = out.size();
    out.resize(at + more.size());
    std::ranges::copy(more, out.begin() + static_cast<std::ptrdiff_t>(at));
}
void pad(Bytes& out, std::size_t unit) { out.resize((out.size() + unit - 1) / unit * unit); }
std::uint32_t crc(std::span<const std::uint8_t> bytes) {
    return static_cast<std::uint32_t>(::crc32_z(0, bytes.data(), bytes.size()));
}
Bytes variables_as_bytes(const std::vector<std::pair<std::string, std::string>>& variables) {
    Bytes out;
    for (const auto& [name, value] : variables) {
        add(out, to_bytes(name + "=" + value));
        out.push_back(0);
    }
    out.push_back(0);
    return out;
}

}  // namespace

Bytes make_egon(std::size_t size, std::uint32_t seed) {
    constexpr std::uint32_t stamp = 0x5F0A6C39;
    Bytes out = noise(size, seed);
    pad(out, 512);
    put32(out, 0, 0xEA000016);  // b 0x60
    const Bytes mark = to_bytes("eGON.BT0");
    std::ranges::copy(mark, out.begin() + 4);
    put32(out, 12, stamp);
    put32(out, 16, static_cast<std::uint32_t>(out.size()));
    const Bytes made = to_bytes("SPL\2");
    std::ranges::copy(made, out.begin() + 20);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < out.size(); i += 4) sum += get32(out, i);
    put32(out, 12, sum);
    return out;
}

Bytes make_uboot(const std::vector<std::pair<std::string, std::string>>& variables) {
    Bytes out = noise(60000, 11);
    add(out, to_bytes(std::string("\0Almhof board loader\0", 21)));
    out.push_back(0);
    add(out, variables_as_bytes(variables));
    add(out, noise(20000, 12));
    return out;
}

Bytes make_uboot_environment(const std::vector<std::pair<std::string, std::string>>& variables, std::size_t size) {
    Bytes body = variables_as_bytes(variables);
    body.resize(size - 4);
    Bytes out;
    put32(out, 0, crc(body));
    add(out, body);
    return out;
}

Bytes make_legacy_image(const Bytes& content, const LegacyOptions& options) {
    constexpr std::uint8_t script = 6;
    Bytes body;
    if (options.type == script) {
        add_big32(body, static_cast<std::uint32_t>(content.size()));
        add_big32(body, 0);
    }
    add(body, content);
    Bytes out;
    for (const std::uint32_t word : {0x27051956U, 0U, 1793000000U, static_cast<std::uint32_t>(body.size()),
                                     options.load, options.entry, crc(body)})
        add_big32(out, word);
    out.push_back(options.os);
    out.push_back(options.arch);
    out.push_back(options.type);
    out.push_back(options.compression);
    Bytes name = to_bytes(options.name);
    name.resize(32);
    add(out, name);
    put_big32(out, 4, crc(out));
    add(out, body);
    return out;
}

TreeNode& TreeNode::text(const std::string& property, const std::string& value) {
    Bytes bytes = to_bytes(value);
    bytes.push_back(0);
    properties.emplace_back(property, bytes);
    return *this;
}
TreeNode& TreeNode::number(const std::string& property, std::uint32_t value) {
    Bytes bytes;
    add_big32(bytes, value);
    properties.emplace_back(property, bytes);
    return *this;
}

Bytes make_device_tree(const TreeNode& root) {
    Bytes structure;
    std::string strings;
    const auto name_at = [&](const std::string& name) {
        const auto found = strings.find(name + '\0');
        if (found != std::string::npos && (found == 0 || strings[found - 1] == '\0'))
            return static_cast<std::uint32_t>(found);
        const auto at = static_cast<std::uint32_t>(strings.size());
        strings += name + '\0';
        return at;
    };
    const auto write = [&](const TreeNode& node, const auto& self) -> void {
        add_big32(structure, 1);
        add(structure, to_bytes(node.name));
        structure.push_back(0);
        pad(structure, 4);
        for (const auto& [name, value] : node.properties) {
            add_big32(structure, 3);
            add_big32(structure, static_cast<std::uint32_t>(value.size()));
            add_big32(structure, name_at(name));
            add(structure, value);
            pad(structure, 4);
        }
        for (const auto& child : node.children) self(child, self);
        add_big32(structure, 2);
    };
    write(root, write);
    add_big32(structure, 9);
    Bytes out;
    const auto size = [](std::size_t value) { return static_cast<std::uint32_t>(value); };
    const std::size_t strings_at = 56 + structure.size();
    for (const std::uint32_t word : {0xD00DFEEDU, size(strings_at + strings.size()), 56U, size(strings_at), 40U, 17U,
                                     16U, 0U, size(strings.size()), size(structure.size())})
        add_big32(out, word);
    out.resize(56);
    add(out, structure);
    add(out, to_bytes(strings));
    return out;
}

Bytes make_fit(const std::vector<FitPart>& parts, const std::string& description) {
    TreeNode images{"images", {}, {}};
    TreeNode configuration{"conf-1", {}, {}};
    configuration.text("description", description);
    for (const auto& part : parts) {
        TreeNode node{part.name, {}, {}};
        node.text("description", part.name).text("type", part.type).text("arch", part.arch).text("os", "linux");
        node.text("compression", "none");
        if (part.load != 0) node.number("load", part.load);
        if (part.entry != 0) node.number("entry", part.entry);
        node.properties.emplace_back("data", part.data);
        TreeNode hash{"hash-1", {}, {}};
        Bytes digest(SHA256_DIGEST_LENGTH);
        SHA256(part.data.data(), part.data.size(), digest.data());
        hash.properties.emplace_back("value", digest);
        hash.text("algo", "sha256");
        node.children.push_back(hash);
        images.children.push_back(node);
        configuration.text(part.type == "flat_dt" ? "fdt" : part.type, part.name);
    }
    TreeNode all{"configurations", {}, {configuration}};
    all.text("default", "conf-1");
    TreeNode root{"", {}, {images, all}};
    root.number("timestamp", 1793000000).text("description", description).number("#address-cells", 1);
    return make_device_tree(root);
}

Bytes make_zimage(const std::string& release) {
    Bytes kernel = noise(200000, 21);
    const Bytes banner = to_bytes("Linux version " + release + " (builder@almhof) #1 SMP\n");
    std::ranges::copy(banner, kernel.begin() + 5000);
    return make_zimage(kernel);
}

Bytes make_zimage(const Bytes& kernel) {
    const Bytes packed = xz(kernel);
    Bytes out(64);
    for (std::size_t i = 0; i < 8; ++i) put32(out, i * 4, 0xE1A00000);  // nop
    put32(out, 32, 0xEA000005);
    put32(out, 36, 0x016F2818);
    put32(out, 40, 0);
    put32(out, 48, 0x04030201);
    add(out, noise(4032, 22));
    add(out, packed);
    pad(out, 4);
    put32(out, 44, static_cast<std::uint32_t>(out.size()));
    return out;
}

Bytes make_arm64_image(const std::string& release, std::size_t size) {
    Bytes out = noise(size, 31);
    put32(out, 0, 0xD503201F);
    put32(out, 4, 0x14004000);
    put64(out, 8, 0);
    put64(out, 16, size);
    put64(out, 24, 10);
    std::fill_n(out.begin() + 32, 24, std::uint8_t{0});
    put32(out, 56, 0x644D5241);
    put32(out, 60, 0);
    const Bytes banner = to_bytes("Linux version " + release + " (builder@almhof) #1 SMP\n");
    constexpr std::size_t usual = 80000;
    const std::size_t at = size > usual + banner.size() ? usual : 64;
    grow(out, at + banner.size());
    std::ranges::copy(banner, out.begin() + static_cast<std::ptrdiff_t>(at));
    return out;
}

Bytes make_arm_program() {
    Bytes out = to_bytes(
        "\x7F"
        "ELF\1\1\1");
    out.resize(52 + 32);
    constexpr std::uint32_t base = 0x10000;
    put16(out, 16, 2);
    put16(out, 18, 40);
    put32(out, 20, 1);
    put32(out, 24, base + 84);
    put32(out, 28, 52);
    put32(out, 36, 0x05000000);
    put16(out, 40, 52);
    put16(out, 42, 32);
    put16(out, 44, 1);
    // mov r7, #1; mov r0, #0; svc 0
    for (const std::uint32_t word : {0xE3A07001U, 0xE3A00000U, 0xEF000000U}) put32(out, out.size(), word);
    put32(out, 52, 1);
    put32(out, 60, base);
    put32(out, 64, base);
    put32(out, 68, static_cast<std::uint32_t>(out.size()));
    put32(out, 72, static_cast<std::uint32_t>(out.size()));
    put32(out, 76, 5);
    put32(out, 80, 0x1000);
    return out;
}

}  // namespace forge
