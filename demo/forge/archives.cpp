// SPDX-License-Identifier: MIT
#include <bzlib.h>
#include <lz4frame.h>
#include <lz4hc.h>
#include <lzma.h>
#include <zlib.h>
#include <zstd.h>
#include <algorithm>
#include <cstdio>
#include <cstring>
#include <stdexcept>

#include "forge/forge.hpp"

namespace forge {

namespace {

[[noreturn]] void broken(const char* what) { throw std::runtime_error(what); }

void append(Bytes& out, std::string_view text) { out.insert(out.end(), text.begin(), text.end()); }

}  // namespace

Bytes make_cpio(const Tree& tree) {
    Bytes out;
    std::uint32_t number = 1;
    auto one = [&](const std::string& name, std::uint32_t mode, const Bytes& body) {
        char head[111];
        std::snprintf(head, sizeof head, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", number++, mode,
                      0U, 0U, 1U, 1767225600U, static_cast<unsigned>(body.size()), 0U, 0U, 0U, 0U,
                      static_cast<unsigned>(name.size() + 1), 0U);
        append(out, head);
        append(out, name);
        out.push_back(0);
        while (out.size() % 4 != 0) out.push_back(0);
        out.insert(out.end(), body.begin(), body.end());
        while (out.size() % 4 != 0) out.push_back(0);
    };
    for (const auto& [path, node] : tree.nodes()) {
        const std::uint32_t type = node.kind == Node::Kind::Directory ? 0040000U
                                   : node.kind == Node::Kind::Link    ? 0120000U
                                   : node.kind == Node::Kind::Device  ? 0020000U
                                                                      : 0100000U;
        one(path.substr(1), type | node.mode, node.kind == Node::Kind::Link ? to_bytes(node.target) : node.content);
    }
    one("TRAILER!!!", 0, {});
    while (out.size() % 512 != 0) out.push_back(0);
    return out;
}

Bytes gzip(const Bytes& plain) {
    z_stream z{};
    if (deflateInit2(&z, 6, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY) != Z_OK) broken("gzip");
    Bytes out(deflateBound(&z, plain.size()) + 64);
    Bytes in = plain;
    z.next_in = in.data();
    z.avail_in = static_cast<uInt>(in.size());
    z.next_out = out.data();
    z.avail_out = static_cast<uInt>(out.size());
    if (deflate(&z, Z_FINISH) != Z_STREAM_END) broken("gzip");
    out.resize(z.total_out);
    deflateEnd(&z);
    return out;
}

Bytes xz(const Bytes& plain) {
    Bytes out(lzma_stream_buffer_bound(plain.size()));
    std::size_t size = 0;
    if (lzma_easy_buffer_encode(1, LZMA_CHECK_CRC32, nullptr, plain.data(), plain.size(), out.data(), &size,
                                out.size()) != LZMA_OK)
        broken("xz");
    out.resize(size);
    return out;
}

Bytes zstd(const Bytes& plain) {
    ZSTD_CCtx* context = ZSTD_createCCtx();
    ZSTD_CCtx_setParameter(context, ZSTD_c_checksumFlag, 1);
    Bytes out(ZSTD_compressBound(plain.size()));
    const std::size_t size = ZSTD_compress2(context, out.data(), out.size(), plain.data(), plain.size());
    ZSTD_freeCCtx(context);
    if (ZSTD_isError(size) != 0U) broken("zstd");
    out.resize(size);
    return out;
}

Bytes bzip2(const Bytes& plain) {
    Bytes in = plain;
    auto size = static_cast<unsigned>(plain.size() + plain.size() / 50 + 1000);
    Bytes out(size);
    if (BZ2_bzBuffToBuffCompress(reinterpret_cast<char*>(out.data()), &size, reinterpret_cast<char*>(in.data()),
                                 static_cast<unsigned>(in.size()), 1, 0, 0) != BZ_OK)
        broken("bzip2");
    out.resize(size);
    return out;
}

Bytes lz4_legacy(const Bytes& plain) {
    constexpr std::size_t block = 8U << 20U;
    Bytes out = {0x02, 0x21, 0x4C, 0x18};
    for (std::size_t at = 0; at < plain.size(); at += block) {
        const auto part = static_cast<int>(std::min(block, plain.size() - at));
        Bytes packed(static_cast<std::size_t>(LZ4_compressBound(part)));
        const int size =
            LZ4_compress_HC(reinterpret_cast<const char*>(plain.data()) + at, reinterpret_cast<char*>(packed.data()),
                            part, static_cast<int>(packed.size()), 9);
        if (size <= 0) broken("lz4");
        put32(out, out.size(), static_cast<std::uint32_t>(size));
        out.insert(out.end(), packed.begin(), packed.begin() + size);
    }
    return out;
}

Bytes lz4_frame(const Bytes& plain) {
    LZ4F_preferences_t how{};
    how.frameInfo.contentChecksumFlag = LZ4F_contentChecksumEnabled;
    Bytes out(LZ4F_compressFrameBound(plain.size(), &how));
    const std::size_t size = LZ4F_compressFrame(out.data(), out.size(), plain.data(), plain.size(), &how);
    if (LZ4F_isError(size) != 0U) broken("lz4");
    out.resize(size);
    return out;
}

Bytes raw_lzma(const Bytes& plain) {
    lzma_options_lzma options;
    if (lzma_lzma_preset(&options, 6)) broken("lzma");
    options.dict_size = 1U << 16U;
    const lzma_filter filters[] = {{LZMA_FILTER_LZMA1, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
    Bytes out(plain.size() + plain.size() / 3 + 1024);
    std::size_t size = 0;
    if (lzma_raw_buffer_encode(filters, nullptr, plain.data(), plain.size(), out.data(), &size, out.size()) != LZMA_OK)
        broken("lzma");
    out.resize(size);
    return out;
}

// --- programs -------------------------------------------------------------------------------------------------------

namespace {

void elf64_head(Bytes& out, std::uint16_t type, std::uint64_t entry, std::uint16_t programs) {
    static constexpr std::uint8_t ident[] = {0x7F, 'E', 'L', 'F', 2, 1, 1, 0};
    out.assign(std::begin(ident), std::end(ident));
    out.resize(64);
    put16(out, 16, type);
    put16(out, 18, 62);  // x86-64
    put32(out, 20, 1);
    put64(out, 24, entry);
    put64(out, 32, programs != 0 ? 64 : 0);
    put16(out, 52, 64);
    put16(out, 54, 56);
    put16(out, 56, programs);
    put16(out, 58, 64);
}

}  // namespace

Bytes make_program() {
    Bytes out;
    constexpr std::uint64_t base = 0x400000;
    elf64_head(out, 2, base + 120, 1);
    out.resize(120);
    // mov eax, 60; xor edi, edi; syscall
    const std::uint8_t code[] = {0xB8, 60, 0, 0, 0, 0x31, 0xFF, 0x0F, 0x05};
    out.insert(out.end(), std::begin(code), std::end(code));
    put32(out, 64, 1);
    put32(out, 68, 5);
    put64(out, 80, base);
    put64(out, 88, base);
    put64(out, 96, out.size());
    put64(out, 104, out.size());
    put64(out, 112, 0x1000);
    return out;
}

Bytes make_dynamic(const DynamicOptions& options) {
    constexpr std::uint64_t base = 0x400000;
    constexpr std::size_t heads = 64;
    constexpr std::size_t head = 56;
    std::string strings(1, '\0');
    auto text = [&](const std::string& word) {
        const auto at = strings.size();
        strings += word;
        strings += '\0';
        return static_cast<std::uint64_t>(at);
    };
    std::vector<std::pair<std::uint64_t, std::uint64_t>> dynamic;
    for (const auto& name : options.needed) dynamic.emplace_back(1, text(name));
    if (!options.soname.empty()) dynamic.emplace_back(14, text(options.soname));
    if (!options.rpath.empty()) dynamic.emplace_back(15, text(options.rpath));
    if (!options.runpath.empty()) dynamic.emplace_back(29, text(options.runpath));
    const std::size_t interpreter_at = heads + 3 * head;
    const std::size_t strings_at = interpreter_at + options.interpreter.size() + 1;
    const std::size_t dynamic_at = (strings_at + strings.size() + 7) / 8 * 8;
    dynamic.emplace_back(5, base + strings_at);
    dynamic.emplace_back(10, strings.size());
    dynamic.emplace_back(0, 0);
    const std::size_t end = dynamic_at + dynamic.size() * 16;
    Bytes out;
    elf64_head(out, options.interpreter.empty() ? 3 : 2, base, 3);
    grow(out, end);
    put16(out, 18, options.machine);
    auto program = [&](std::size_t index, std::uint32_t type, std::uint64_t at, std::uint64_t length) {
        const std::size_t p = heads + index * head;
        put32(out, p, type);
        put32(out, p + 4, 5);
        put64(out, p + 8, at);
        put64(out, p + 16, base + at);
        put64(out, p + 24, base + at);
        put64(out, p + 32, length);
        put64(out, p + 40, length);
        put64(out, p + 48, 8);
    };
    program(0, 1, 0, end);
    program(1, 2, dynamic_at, dynamic.size() * 16);
    // A library has a note in the interpreter's place.
    program(2, options.interpreter.empty() ? 4 : 3, interpreter_at, options.interpreter.size() + 1);
    std::copy(options.interpreter.begin(), options.interpreter.end(),
              out.begin() + static_cast<std::ptrdiff_t>(interpreter_at));
    std::copy(strings.begin(), strings.end(), out.begin() + static_cast<std::ptrdiff_t>(strings_at));
    for (std::size_t i = 0; i < dynamic.size(); ++i) {
        put64(out, dynamic_at + i * 16, dynamic[i].first);
        put64(out, dynamic_at + i * 16 + 8, dynamic[i].second);
    }
    return out;
}

Bytes make_library_cache(const std::vector<std::pair<std::string, std::string>>& entries) {
    Bytes out = to_bytes("glibc-ld.so.cache1.1");
    constexpr std::size_t head = 48;
    constexpr std::size_t each = 24;
    grow(out, head + entries.size() * each);
    put32(out, 20, static_cast<std::uint32_t>(entries.size()));
    for (std::size_t i = 0; i < entries.size(); ++i) {
        const std::size_t at = head + i * each;
        put32(out, at, 0x0303);
        put32(out, at + 4, static_cast<std::uint32_t>(out.size()));
        append(out, entries[i].first);
        out.push_back(0);
        put32(out, at + 8, static_cast<std::uint32_t>(out.size()));
        append(out, entries[i].second);
        out.push_back(0);
    }
    return out;
}

Bytes make_kernel_module(std::string_view name) {
    Bytes out;
    elf64_head(out, 1, 0, 0);
    append(out, "name=");
    append(out, name);
    out.push_back(0);
    return out;
}

// --- kernels --------------------------------------------------------------------------------------------------------

extern "C" {
extern const std::uint8_t forge_kernel_setup[], forge_kernel_setup_end[], forge_kernel_entry[],
    forge_kernel_entry_end[];
}

Bytes make_kernel(const KernelOptions& options) {
    // The compressed kernel: an ELF file that does nothing, filled up with text that packs like code does.
    Bytes inner;
    elf64_head(inner, 2, 0x1000000, 0);
    const Bytes filler = noise(options.payload_size / 3, 7);
    while (inner.size() < options.payload_size)
        inner.insert(
            inner.end(), filler.begin(),
            filler.begin() + static_cast<std::ptrdiff_t>(std::min(filler.size(), options.payload_size - inner.size())));
    if (!options.payload.empty()) inner = options.payload;
    Bytes payload = options.compress != nullptr ? options.compress(inner) : gzip(inner);
    const bool gz = payload[0] == 0x1F;
    if (!gz) put32(payload, payload.size(), static_cast<std::uint32_t>(inner.size()));

    constexpr std::size_t setup_sectors = 3;
    constexpr std::size_t setup_size = (setup_sectors + 1) * 512;
    constexpr std::size_t payload_offset = 0x200;
    Bytes out(setup_size);
    out[0x1F1] = setup_sectors;
    put16(out, 0x1FE, 0xAA55);
    put16(out, 0x200, 0x66EB);  // jmp 268h
    std::memcpy(out.data() + 0x202, "HdrS", 4);
    put16(out, 0x206, 0x020F);
    put16(out, 0x20E, 0x400);  // the version text lies at 0x200 + this
    const std::string version = options.release + " (build@almhof) #1 SMP";
    std::copy(version.begin(), version.end(), out.begin() + 0x600);
    out[0x211] = 1;  // loaded high
    put32(out, 0x214, 0x100000);
    put32(out, 0x22C, 0x7FFFFFFF);
    put32(out, 0x230, 0x200000);
    out[0x234] = 1;
    out[0x235] = 21;
    put16(out, 0x236, 1);
    put32(out, 0x238, 2047);
    put32(out, 0x248, payload_offset);
    put32(out, 0x24C, static_cast<std::uint32_t>(payload.size()));
    put64(out, 0x258, 0x1000000);
    put32(out, 0x260, static_cast<std::uint32_t>(inner.size() + 0x100000));
    std::copy(forge_kernel_setup, forge_kernel_setup_end, out.begin() + 0x268);
    put32(out, setup_size - 8, 0x5A5AAA55);  // what the set-up code looks for itself

    Bytes protected_part(payload_offset);
    std::copy(forge_kernel_entry, forge_kernel_entry_end, protected_part.begin());
    protected_part.insert(protected_part.end(), payload.begin(), payload.end());
    while (protected_part.size() % 16 != 12) protected_part.push_back(0);
    protected_part.resize(protected_part.size() + 4);
    put32(out, 0x1F4, static_cast<std::uint32_t>(protected_part.size() / 16));
    out.insert(out.end(), protected_part.begin(), protected_part.end());
    if (options.with_crc) {
        const auto sum = static_cast<std::uint32_t>(crc32_z(0, out.data(), out.size() - 4)) ^ 0xFFFFFFFFU;
        put32(out, out.size() - 4, sum);
    }
    return out;
}

}  // namespace forge
