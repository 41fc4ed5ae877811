// SPDX-License-Identifier: MIT
#include <fcntl.h>
#include <unistd.h>
#include <algorithm>
#include <cstring>
#include <stdexcept>

#include <herberge/bytes.hpp>

#include "forge/forge.hpp"

namespace forge {

Bytes to_bytes(std::string_view text) { return {text.begin(), text.end()}; }

namespace {

void put(Bytes& out, std::size_t at, std::uint64_t value, std::size_t count) {
    if (out.size() < at + count) out.resize(at + count);
    for (std::size_t i = 0; i < count; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
}

}  // namespace

void put16(Bytes& out, std::size_t at, std::uint16_t value) { put(out, at, value, 2); }
void put32(Bytes& out, std::size_t at, std::uint32_t value) { put(out, at, value, 4); }
void put64(Bytes& out, std::size_t at, std::uint64_t value) { put(out, at, value, 8); }

void grow(Bytes& out, std::size_t size) {
    if (out.size() < size) out.resize(size);
}
std::uint32_t get32(std::span<const std::uint8_t> bytes, std::size_t at) {
    return bytes[at] | static_cast<std::uint32_t>(bytes[at + 1]) << 8U |
           static_cast<std::uint32_t>(bytes[at + 2]) << 16U | static_cast<std::uint32_t>(bytes[at + 3]) << 24U;
}

Bytes noise(std::size_t size, std::uint32_t seed) {
    Bytes out(size);
    std::uint32_t state = seed * 2654435761U + 1U;
    for (auto& byte : out) {
        state ^= state << 13U;
        state ^= state >> 17U;
        state ^= state << 5U;
        byte = static_cast<std::uint8_t>(state >> 24U);
    }
    return out;
}

void Tree::parents(const std::string& path) {
    for (auto slash = path.find('/', 1); slash != std::string::npos; slash = path.find('/', slash + 1)) {
        const std::string above = path.substr(0, slash);
        if (!nodes_.contains(above)) nodes_[above] = Node{Node::Kind::Directory, 0755, {}, {}, {}};
    }
}

Tree& Tree::file(std::string path, Bytes content, std::uint32_t mode) {
    parents(path);
    nodes_[std::move(path)] = Node{Node::Kind::File, mode, std::move(content), {}, {}};
    return *this;
}
Tree& Tree::file(std::string path, std::string_view text, std::uint32_t mode) {
    return file(std::move(path), to_bytes(text), mode);
}
Tree& Tree::link(std::string path, std::string target) {
    parents(path);
    nodes_[std::move(path)] = Node{Node::Kind::Link, 0777, {}, std::move(target), {}};
    return *this;
}
Tree& Tree::directory(std::string path, std::uint32_t mode) {
    parents(path);
    nodes_[std::move(path)] = Node{Node::Kind::Directory, mode, {}, {}, {}};
    return *this;
}
Tree& Tree::remove(const std::string& path) {
    std::erase_if(nodes_, [&](const auto& item) { return item.first == path || item.first.starts_with(path + "/"); });
    return *this;
}

Bytes make_swap(std::uint64_t size, std::array<std::uint8_t, 16> uuid) {
    Bytes out(static_cast<std::size_t>(size));
    put32(out, 1024, 1);
    put32(out, 1028, static_cast<std::uint32_t>(size / 4096 - 1));
    std::copy(uuid.begin(), uuid.end(), out.begin() + 1036);
    const auto mark = to_bytes("SWAPSPACE2");
    std::copy(mark.begin(), mark.end(), out.begin() + 4086);
    return out;
}

std::array<std::uint8_t, 16> uuid_from(std::string_view text) {
    std::array<std::uint8_t, 16> out{};
    std::size_t digit = 0;
    for (const char c : text) {
        const int value = c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
        if (value < 0 || digit >= 32) continue;
        out.at(digit / 2) = static_cast<std::uint8_t>(out.at(digit / 2) << 4U | static_cast<std::uint8_t>(value));
        ++digit;
    }
    return out;
}

namespace {

/// Both copies of a GUID table over an image that has its partitions' content already.
void add_gpt(Bytes& out, const DiskSpec& spec) {
    const std::uint64_t sectors = out.size() / 512;
    Bytes entries(128 * 128);
    for (std::size_t i = 0; i < spec.partitions.size(); ++i) {
        const auto& p = spec.partitions[i];
        const Bytes linux_data = {0xAF, 0x3D, 0xC6, 0x0F, 0x83, 0x84, 0x72, 0x47,
                                  0x8E, 0x79, 0x3D, 0x69, 0xD8, 0x47, 0x7D, 0xE4};
        const Bytes esp = {0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11,
                           0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B};
        std::ranges::copy(p.type == 0xEF ? esp : linux_data, entries.begin() + static_cast<std::ptrdiff_t>(i * 128));
        for (std::size_t j = 0; j < 16; ++j) entries[i * 128 + 16 + j] = static_cast<std::uint8_t>(0x10 * (i + 1) + j);
        put64(entries, i * 128 + 32, p.first_lba);
        put64(entries, i * 128 + 40, p.first_lba + p.content.size() / 512 - 1);
        entries[i * 128 + 56] = static_cast<std::uint8_t>('A' + i);
    }
    const auto copy = [&](std::uint64_t at, std::uint64_t other, std::uint64_t array) {
        Bytes header = to_bytes("EFI PART");
        header.resize(92);
        put32(header, 8, 0x10000);
        put32(header, 12, 92);
        put64(header, 24, at);
        put64(header, 32, other);
        put64(header, 40, 34);
        put64(header, 48, sectors - 34);
        header[56] = 0x77;
        put64(header, 72, array);
        put32(header, 80, 128);
        put32(header, 84, 128);
        put32(header, 88, herberge::crc32(0, entries));
        put32(header, 16, herberge::crc32(0, header));
        std::copy(header.begin(), header.end(), out.begin() + static_cast<std::ptrdiff_t>(at * 512));
        std::copy(entries.begin(), entries.end(), out.begin() + static_cast<std::ptrdiff_t>(array * 512));
    };
    copy(1, sectors - 1, 2);
    copy(sectors - 1, 1, sectors - 33);
    std::fill_n(out.begin() + 446, 64, std::uint8_t{0});
    out[450] = 0xEE;
    put32(out, 454, 1);
    put32(out, 458, static_cast<std::uint32_t>(sectors - 1));
}

}  // namespace

Bytes make_disk(const DiskSpec& spec) {
    Bytes out(static_cast<std::size_t>(spec.size));
    std::copy_n(spec.boot_code.begin(), std::min<std::size_t>(440, spec.boot_code.size()), out.begin());
    put32(out, 440, spec.signature);
    std::size_t slot = 0;
    for (const auto& p : spec.partitions) {
        const std::size_t at = 446 + 16 * slot++;
        const std::uint64_t sectors = p.content.size() / 512;
        const auto chs = [](std::uint64_t lba) -> std::array<std::uint8_t, 3> {
            const std::uint64_t cylinder = lba / (255 * 63);
            if (cylinder > 1022) return {0xFE, 0xFF, 0xFF};
            return {static_cast<std::uint8_t>(lba / 63 % 255),
                    static_cast<std::uint8_t>(lba % 63 + 1 + ((cylinder >> 8U) << 6U)),
                    static_cast<std::uint8_t>(cylinder)};
        };
        const auto first = chs(p.first_lba);
        const auto last = chs(p.first_lba + sectors - 1);
        out[at] = p.active ? 0x80 : 0;
        std::copy(first.begin(), first.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 1));
        out[at + 4] = p.type;
        std::copy(last.begin(), last.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 5));
        put32(out, at + 8, static_cast<std::uint32_t>(p.first_lba));
        put32(out, at + 12, static_cast<std::uint32_t>(sectors));
        if (p.first_lba * 512 + p.content.size() > out.size())
            throw std::runtime_error("a partition does not fit on the disk");
        std::copy(p.content.begin(), p.content.end(), out.begin() + static_cast<std::ptrdiff_t>(p.first_lba * 512));
    }
    put16(out, 510, 0xAA55);
    if (spec.gpt) add_gpt(out, spec);
    else std::copy(spec.gap.begin(), spec.gap.end(), out.begin() + 512);
    return out;
}

bool write_sparse(const std::string& path, std::span<const std::uint8_t> bytes, std::uint64_t size) {
    const int file = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (file < 0) return false;
    constexpr std::size_t block = 4096;
    bool good = ::ftruncate(file, static_cast<off_t>(std::max<std::uint64_t>(size, bytes.size()))) == 0;
    for (std::size_t at = 0; at < bytes.size() && good; at += block) {
        const auto part = bytes.subspan(at, std::min(block, bytes.size() - at));
        // Most of an image is a hole, and some are gigabytes: compared as memory.
        if (part.front() == 0 && std::memcmp(part.data(), part.data() + 1, part.size() - 1) == 0) continue;
        good = ::pwrite(file, part.data(), part.size(), static_cast<off_t>(at)) == static_cast<ssize_t>(part.size());
    }
    return ::close(file) == 0 && good;
}

}  // namespace forge
