// SPDX-License-Identifier: MIT
// Stand-ins for GRUB 2's parts: first sector, core image with embedded modules and error correction, module files.
#include <algorithm>
#include <array>
#include <cstring>

#include "forge/forge.hpp"

extern "C" {
extern const std::uint8_t forge_boot_sector[], forge_boot_sector_end[], forge_disk_boot[], forge_disk_boot_end[],
    forge_core_start[], forge_core_start_end[];
extern const std::uint8_t forge_plain_boot[], forge_plain_boot_end[], forge_volume_boot[], forge_volume_boot_end[];
}

namespace forge {

namespace {

/// GF(256) over 0x11D by plain shifting: slow and independent of the decoder's tables.
std::uint8_t times(std::uint8_t a, std::uint8_t b) {
    unsigned sum = 0;
    unsigned x = a;
    for (unsigned bits = b; bits != 0; bits >>= 1U) {
        if ((bits & 1U) != 0) sum ^= x;
        x <<= 1U;
        if ((x & 0x100U) != 0) x ^= 0x11DU;
    }
    return static_cast<std::uint8_t>(sum);
}

/// The remainder of one code word, `count` bytes.
Bytes parity(const Bytes& word, const Bytes& generator) {
    const std::size_t count = generator.size() - 1;
    Bytes rest = word;
    grow(rest, word.size() + count);
    for (std::size_t i = 0; i < word.size(); ++i) {
        const std::uint8_t factor = rest[i];
        if (factor == 0) continue;
        for (std::size_t j = 0; j < generator.size(); ++j)
            rest[i + j] = static_cast<std::uint8_t>(rest[i + j] ^ times(generator[j], factor));
    }
    return {rest.begin() + static_cast<std::ptrdiff_t>(word.size()), rest.end()};
}

Bytes generator(std::size_t count) {
    Bytes out{1};
    std::uint8_t root = 1;
    for (std::size_t i = 0; i < count; ++i) {
        out.push_back(0);
        for (std::size_t j = out.size() - 1; j > 0; --j)
            out[j] = static_cast<std::uint8_t>(out[j] ^ times(out[j - 1], root));
        root = times(root, 2);
    }
    return out;
}

/// Columns of 512-byte rows; what is larger than 200 rows is split in proportion.
Bytes redundancy(std::span<const std::uint8_t> data, std::size_t size) {
    Bytes out(size);
    std::size_t done = 0;
    std::size_t left = size;
    while (!data.empty()) {
        std::size_t part = data.size();
        std::size_t extra = left;
        if (part + extra > 200 * 512) {
            extra = left * 200 / (data.size() + left) * 512;
            part = data.size() * 200 / (data.size() + left) * 512;
        }
        std::array<Bytes, 2> generators;
        for (std::size_t column = 0; column < 512; ++column) {
            Bytes word;
            for (std::size_t at = column; at < part; at += 512) word.push_back(data[at]);
            const std::size_t count = (extra + 511 - column) / 512;
            auto& g = generators.at(count % 2);
            if (g.size() != count + 1) g = generator(count);
            const Bytes tail = parity(word, g);
            for (std::size_t i = 0; i < tail.size(); ++i) out[done + i * 512 + column] = tail[i];
        }
        data = data.subspan(part);
        done += extra;
        left -= extra;
    }
    return out;
}

void section(Bytes& out, std::size_t at, std::uint32_t name, std::uint32_t type, std::size_t offset, std::size_t size,
             std::uint32_t link, std::uint32_t entry) {
    put32(out, at, name);
    put32(out, at + 4, type);
    put32(out, at + 16, static_cast<std::uint32_t>(offset));
    put32(out, at + 20, static_cast<std::uint32_t>(size));
    put32(out, at + 24, link);
    put32(out, at + 36, entry);
}

}  // namespace

Bytes make_grub_module(const ModuleOptions& options) {
    static constexpr std::uint8_t ident[] = {0x7F, 'E', 'L', 'F', 1, 1, 1, 0};
    Bytes out(std::begin(ident), std::end(ident));
    grow(out, 52);
    put16(out, 16, 1);
    put16(out, 18, 3);
    put32(out, 20, 1);
    put16(out, 40, 52);
    put16(out, 46, 40);
    put16(out, 48, 6);
    put16(out, 50, 5);
    auto add = [&](const Bytes& content) {
        const std::size_t at = out.size();
        out.insert(out.end(), content.begin(), content.end());
        while (out.size() % 4 != 0) out.push_back(0);
        return at;
    };
    add(options.code);
    Bytes name = to_bytes(options.name);
    name.push_back(0);
    Bytes depends;
    for (const auto& d : options.depends) {
        const auto text = to_bytes(d);
        depends.insert(depends.end(), text.begin(), text.end());
        depends.push_back(0);
    }
    Bytes strings{0};
    Bytes symbols(16);
    auto symbol = [&](const std::string& text, std::uint16_t where) {
        const std::size_t at = symbols.size();
        put32(symbols, at, static_cast<std::uint32_t>(strings.size()));
        symbols.resize(at + 16);
        symbols[at + 12] = 1U << 4U;
        put16(symbols, at + 14, where);
        const auto raw = to_bytes(text);
        strings.insert(strings.end(), raw.begin(), raw.end());
        strings.push_back(0);
    };
    for (const auto& s : options.needs) symbol(s, 0);
    for (const auto& s : options.defines) symbol(s, 1);
    static constexpr std::string_view names = {"\0.modname\0.moddeps\0.symtab\0.strtab\0.shstrtab\0", 45};
    const std::size_t name_at = add(name);
    const std::size_t depends_at = add(depends);
    const std::size_t symbols_at = add(symbols);
    const std::size_t strings_at = add(strings);
    const std::size_t names_at = add(to_bytes(names));
    const std::size_t table = out.size();
    put32(out, 32, static_cast<std::uint32_t>(table));
    grow(out, table + 6 * 40);
    section(out, table + 40, 1, 1, name_at, name.size(), 0, 0);
    section(out, table + 80, 10, 1, depends_at, depends.size(), 0, 0);
    section(out, table + 120, 19, options.symbols ? 2 : 1, symbols_at, symbols.size(), 4, 16);
    section(out, table + 160, 27, 3, strings_at, strings.size(), 0, 0);
    section(out, table + 200, 35, 3, names_at, names.size(), 0, 0);
    return out;
}

Bytes make_grub_core(const CoreOptions& options) {
    // The unpacked image: something in place of the kernel, the names it exports, then the list of what is embedded.
    Bytes kernel = noise(6000, 11);
    for (const std::string_view text : {"grub_malloc", "grub_printf", "grub_register_command_prio"}) {
        kernel.push_back(0);
        kernel.insert(kernel.end(), text.begin(), text.end());
        kernel.push_back(0);
    }
    while (kernel.size() % 16 != 0) kernel.push_back(0);
    Bytes list;
    auto part = [&](std::uint32_t type, Bytes body) {
        while (body.size() % 4 != 0) body.push_back(0);
        put32(list, list.size(), type);
        put32(list, list.size(), static_cast<std::uint32_t>(body.size() + 8));
        list.insert(list.end(), body.begin(), body.end());
    };
    for (const auto& name : options.modules) {
        const auto code = options.code.find(name);
        part(0, make_grub_module({name, {}, {}, {}, true, code != options.code.end() ? code->second : Bytes{}}));
    }
    auto text = [](std::string_view value) {
        Bytes out = to_bytes(value);
        out.push_back(0);
        return out;
    };
    if (!options.embedded_config.empty()) part(2, text(options.embedded_config));
    part(3, text(options.prefix));
    const std::size_t info = kernel.size();
    put32(kernel, info, 0x676D696D);
    put32(kernel, info + 4, 12);
    put32(kernel, info + 8, static_cast<std::uint32_t>(list.size() + 12));
    kernel.insert(kernel.end(), list.begin(), list.end());

    const Bytes packed = raw_lzma(kernel);
    constexpr std::size_t decompressor = 1024;
    constexpr std::size_t unprotected = 256;
    Bytes image(forge_core_start, forge_core_start_end);
    grow(image, decompressor);
    const Bytes code = noise(decompressor - unprotected, 5);
    std::copy(code.begin(), code.end(), image.begin() + unprotected);
    put32(image, 8, static_cast<std::uint32_t>(packed.size()));
    put32(image, 12, static_cast<std::uint32_t>(kernel.size()));
    put16(image, 20, unprotected);
    for (std::size_t i = 24; i < 27; ++i) image[i] = 0xFF;
    image.insert(image.end(), packed.begin(), packed.end());
    // As much redundancy as there is data, filled up to whole sectors.
    const std::size_t plain = image.size();
    const std::size_t total = ((options.redundancy ? 2 * plain : plain) + 511) / 512 * 512;
    if (options.redundancy) {
        put32(image, 16, static_cast<std::uint32_t>(total - plain));
        const Bytes tail = redundancy(std::span(image).subspan(unprotected), total - plain);
        image.insert(image.end(), tail.begin(), tail.end());
    }
    grow(image, total);

    Bytes first(forge_disk_boot, forge_disk_boot_end);
    grow(first, 512);
    // Two runs, so that the list is a list.
    const std::uint64_t sectors = total / 512;
    const std::uint64_t one = std::min<std::uint64_t>(sectors / 2, 60);
    put64(first, 500, options.first_sector + 1);
    put16(first, 508, static_cast<std::uint16_t>(one));
    put16(first, 510, 0x0820);
    put64(first, 488, options.first_sector + 1 + one);
    put16(first, 496, static_cast<std::uint16_t>(sectors - one));
    put16(first, 498, static_cast<std::uint16_t>(0x0820 + one * 32));
    first.insert(first.end(), image.begin(), image.end());
    return first;
}

Bytes make_plain_boot() { return {forge_plain_boot, forge_plain_boot_end}; }

Bytes make_volume_boot() {
    Bytes out(forge_volume_boot, forge_volume_boot_end);
    grow(out, 510);
    put16(out, 510, 0xAA55);
    return out;
}

Bytes make_grub_boot(std::uint64_t core_sector) {
    Bytes out(forge_boot_sector, forge_boot_sector_end);
    put64(out, 0x5C, core_sector);
    return out;
}

}  // namespace forge
