// SPDX-License-Identifier: MIT
// Writes PE images: stand-ins with true headers, imports and checksum, whose code returns at once.
#include <algorithm>

#include "windows.hpp"

namespace forge {

namespace {

/// A block of a version resource: length, length of the value, kind (1: text), key, value; what is inside follows.
Bytes version_block(std::string_view key, const Bytes& value, bool text, const std::vector<Bytes>& inside = {}) {
    Bytes out(6);
    const Bytes name = utf16(key);
    out.insert(out.end(), name.begin(), name.end());
    while (out.size() % 4 != 0) out.push_back(0);
    for (const auto byte : value) out.push_back(byte);
    for (const auto& block : inside) {
        while (out.size() % 4 != 0) out.push_back(0);
        for (const auto byte : block) out.push_back(byte);
    }
    put16(out, 0, static_cast<std::uint16_t>(out.size()));
    put16(out, 2, static_cast<std::uint16_t>(text ? value.size() / 2 : value.size()));
    put16(out, 4, text ? 1 : 0);
    return out;
}

}  // namespace

Bytes make_version_resource(std::uint32_t address, const std::array<std::uint16_t, 4>& version,
                            std::string_view product, std::string_view description) {
    Bytes fixed;
    put32(fixed, 0, 0xFEEF04BD);
    put32(fixed, 4, 0x10000);
    for (const std::size_t at : {8U, 16U}) {
        put32(fixed, at, std::uint32_t{version[0]} << 16U | version[1]);
        put32(fixed, at + 4, std::uint32_t{version[2]} << 16U | version[3]);
    }
    put32(fixed, 48, 0);
    const Bytes strings = version_block("040904B0", {}, true,
                                        {version_block("ProductName", utf16(product), true),
                                         version_block("FileDescription", utf16(description), true)});
    const Bytes languages =
        version_block("VarFileInfo", {}, true, {version_block("Translation", {0x09, 0x04, 0xB0, 0x04}, false)});
    const Bytes info = version_block("VS_VERSION_INFO", fixed, false,
                                     {languages, version_block("StringFileInfo", {}, true, {strings})});
    // Three directories of one entry each: kind, number, language; then where the data lies.
    Bytes out(3 * 24 + 16);
    for (std::size_t level = 0; level < 3; ++level) {
        put16(out, level * 24 + 14, 1);
        put32(out, level * 24 + 16, level == 0 ? 16 : level == 1 ? 1 : 0x409);
        put32(out, level * 24 + 20, level < 2 ? 0x80000000U | static_cast<std::uint32_t>((level + 1) * 24) : 72);
    }
    put32(out, 72, address + static_cast<std::uint32_t>(out.size()));
    put32(out, 76, static_cast<std::uint32_t>(info.size()));
    out.insert(out.end(), info.begin(), info.end());
    return out;
}

Bytes make_pe(const PeOptions& options) {
    constexpr std::size_t alignment = 0x1000;
    constexpr std::size_t file_alignment = 0x200;
    const bool wide = options.machine != 0x14C;
    struct Section {
        std::string name;
        Bytes content;
        std::uint32_t address = 0, offset = 0;
    };
    std::vector<Section> sections{{".text", Bytes{0x31, 0xC0, 0xC3}}};
    if (!options.imports.empty()) {
        // Descriptors, then the names; each library gives one function by number.
        Bytes data((options.imports.size() + 1) * 20);
        const std::uint32_t base = 2 * alignment;
        for (std::size_t i = 0; i < options.imports.size(); ++i) {
            const auto table = static_cast<std::uint32_t>(data.size());
            for (int twice = 0; twice < 2; ++twice) {
                if (wide) {
                    put64(data, data.size(), std::uint64_t{1} << 63U | 1);
                    put64(data, data.size(), 0);
                } else {
                    put32(data, data.size(), 0x80000001U);
                    put32(data, data.size(), 0);
                }
            }
            const std::uint32_t half = wide ? 16 : 8;
            const auto name = static_cast<std::uint32_t>(data.size());
            data.insert(data.end(), options.imports[i].begin(), options.imports[i].end());
            data.push_back(0);
            while (data.size() % 8 != 0) data.push_back(0);
            put32(data, i * 20, base + table);
            put32(data, i * 20 + 12, base + name);
            put32(data, i * 20 + 16, base + table + half);
        }
        sections.push_back({".idata", data});
    }
    for (const auto& [name, content] : options.sections) sections.push_back({name, content});
    const std::size_t optional = wide ? 240 : 224;
    const std::size_t headers =
        (0x80 + 24 + optional + sections.size() * 40 + file_alignment - 1) / file_alignment * file_alignment;
    std::size_t address = alignment;
    std::size_t offset = headers;
    for (auto& s : sections) {
        s.address = static_cast<std::uint32_t>(address);
        s.offset = static_cast<std::uint32_t>(offset);
        address += (s.content.size() + alignment - 1) / alignment * alignment;
        offset += (s.content.size() + file_alignment - 1) / file_alignment * file_alignment;
    }
    Bytes out(offset);
    out[0] = 'M';
    out[1] = 'Z';
    put32(out, 0x3C, 0x80);
    out[0x80] = 'P';
    out[0x81] = 'E';
    put16(out, 0x84, options.machine);
    put16(out, 0x86, static_cast<std::uint16_t>(sections.size()));
    put16(out, 0x94, static_cast<std::uint16_t>(optional));
    put16(out, 0x96, 0x22E);
    const std::size_t at = 0x98;
    put16(out, at, wide ? 0x20B : 0x10B);
    put32(out, at + 16, alignment);
    put32(out, at + 20, alignment);
    put32(out, at + 32, alignment);
    put32(out, at + 36, file_alignment);
    put32(out, at + 56, static_cast<std::uint32_t>(address));
    put32(out, at + 60, static_cast<std::uint32_t>(headers));
    put16(out, at + 68, options.subsystem);
    const std::size_t directories = at + (wide ? 112 : 96);
    put32(out, directories - 4, 16);
    if (!options.imports.empty()) {
        put32(out, directories + 8, 2 * alignment);
        put32(out, directories + 12, static_cast<std::uint32_t>((options.imports.size() + 1) * 20));
    }
    // Names of more than eight letters stand in a string table behind all sections, and "/" with their place instead.
    Bytes strings(4);
    for (auto& s : sections) {
        if (s.name.size() <= 8) continue;
        const std::string place = "/" + std::to_string(strings.size());
        strings.insert(strings.end(), s.name.begin(), s.name.end());
        strings.push_back(0);
        s.name = place;
    }
    if (strings.size() > 4) {
        put32(strings, 0, static_cast<std::uint32_t>(strings.size()));
        strings.resize((strings.size() + file_alignment - 1) / file_alignment * file_alignment);
        put32(out, 0x8C, static_cast<std::uint32_t>(out.size()));
        out.insert(out.end(), strings.begin(), strings.end());
    }
    for (const auto& s : sections)
        if (s.name == ".rsrc") {
            put32(out, directories + 16, s.address);
            put32(out, directories + 20, static_cast<std::uint32_t>(s.content.size()));
        }
    std::size_t table = at + optional;
    for (const auto& s : sections) {
        std::copy_n(s.name.begin(), std::min<std::size_t>(8, s.name.size()),
                    out.begin() + static_cast<std::ptrdiff_t>(table));
        put32(out, table + 8, static_cast<std::uint32_t>(s.content.size()));
        put32(out, table + 12, s.address);
        put32(out, table + 16,
              static_cast<std::uint32_t>((s.content.size() + file_alignment - 1) / file_alignment * file_alignment));
        put32(out, table + 20, s.offset);
        put32(out, table + 36, 0x60000020);
        std::copy(s.content.begin(), s.content.end(), out.begin() + s.offset);
        table += 40;
    }
    if (options.checksum) {
        std::uint64_t sum = 0;
        for (std::size_t i = 0; i < out.size(); i += 2) sum += static_cast<unsigned>(out[i] | out[i + 1] << 8U);
        while (sum > 0xFFFF) sum = (sum & 0xFFFFU) + (sum >> 16U);
        put32(out, at + 64, static_cast<std::uint32_t>(sum + out.size()));
    }
    return out;
}

}  // namespace forge
