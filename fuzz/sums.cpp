// SPDX-License-Identifier: MIT
#include "sums.hpp"

#include <openssl/evp.h>
#include <algorithm>
#include <array>
#include <cstring>
#include <herberge/bytes.hpp>
#include <string_view>

namespace fuzz {
namespace {

using Part = std::span<std::uint8_t>;
using herberge::crc32;
using herberge::crc32c;

bool fits(Part bytes, std::size_t at, std::size_t length) { return at <= bytes.size() && length <= bytes.size() - at; }
bool says(Part bytes, std::size_t at, std::string_view text) {
    return fits(bytes, at, text.size()) && std::memcmp(bytes.data() + at, text.data(), text.size()) == 0;
}
template <int Bytes>
std::uint64_t little(Part bytes, std::size_t at) {
    std::uint64_t out = 0;
    for (std::size_t i = Bytes; fits(bytes, at, Bytes) && i-- > 0;) out = out << 8U | bytes[at + i];
    return out;
}
template <int Bytes>
std::uint64_t big(Part bytes, std::size_t at) {
    std::uint64_t out = 0;
    for (std::size_t i = 0; fits(bytes, at, Bytes) && i < Bytes; ++i) out = out << 8U | bytes[at + i];
    return out;
}
template <int Bytes>
void put_little(Part bytes, std::size_t at, std::uint64_t value) {
    for (std::size_t i = 0; fits(bytes, at, Bytes) && i < Bytes; ++i)
        bytes[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
}
void put_big32(Part bytes, std::size_t at, std::uint64_t value) {
    for (std::size_t i = 0; fits(bytes, at, 4) && i < 4; ++i)
        bytes[at + i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
}
std::uint32_t castagnoli(std::uint32_t seed, Part bytes) { return crc32c(seed, bytes); }
/// A sum over a part in which the sum's own field counts as zeros.
template <class Sum>
std::uint32_t without(Part part, std::size_t field, std::size_t length, Sum sum) {
    std::array<std::uint8_t, 64> kept{};
    const auto own = part.subspan(field, length);
    std::copy(own.begin(), own.end(), kept.begin());
    std::fill(own.begin(), own.end(), std::uint8_t{0});
    const std::uint32_t out = sum(part);
    std::copy_n(kept.begin(), length, own.begin());
    return out;
}

// --- tables (UEFI 5.3.2; El Torito 1.0 figure 2) --------------------------------------------------------------------

void gpt(Part disk, std::size_t header) {
    if (!says(disk, header, "EFI PART")) return;
    const auto length = little<4>(disk, header + 12), count = little<4>(disk, header + 80),
               each = little<4>(disk, header + 84);
    const auto entries = little<8>(disk, header + 72);
    if (entries < disk.size() / 512 && count < 4096 && each < 4096 && fits(disk, entries * 512, count * each))
        put_little<4>(disk, header + 88, crc32(0, disk.subspan(entries * 512, count * each)));
    if (length < 20 || length > 512 || !fits(disk, header, length)) return;
    put_little<4>(disk, header + 16, without(disk.subspan(header, length), 16, 4, [](Part p) { return crc32(0, p); }));
}
void catalogue(Part disc) {
    for (std::size_t at = 0; fits(disc, at, 32); at += 2048) {
        if (disc[at] != 1 || disc[at + 30] != 0x55 || disc[at + 31] != 0xAA) continue;
        std::uint64_t sum = 0;
        put_little<2>(disc, at + 28, 0);
        for (std::size_t i = 0; i < 32; i += 2) sum += little<2>(disc, at + i);
        put_little<2>(disc, at + 28, 0x10000 - (sum & 0xFFFFU));
    }
}

// --- file systems ---------------------------------------------------------------------------------------------------

/// linux/fs/ext4: super.c, ialloc.c, namei.c.
void ext(Part volume) {
    if (little<2>(volume, 1024 + 56) != 0xEF53 || (little<4>(volume, 1024 + 100) & 0x400U) == 0) return;
    const auto super = volume.subspan(1024);
    if (!fits(super, 0, 1024)) return;
    put_little<4>(super, 1020, castagnoli(~0U, super.first(1020)));
    const auto shift = little<4>(super, 24);
    const std::uint64_t features = little<4>(super, 96);
    const auto seed = (features & 0x2000U) != 0 ? static_cast<std::uint32_t>(little<4>(super, 0x270))
                                                : castagnoli(~0U, super.subspan(104, 16));
    if (shift > 2) return;
    const std::size_t block = std::size_t{1024} << shift, size = (features & 0x80U) != 0 ? little<2>(super, 254) : 32;
    const auto inodes = little<4>(super, 40), inode_size = little<2>(super, 88);
    const std::size_t table = (little<4>(super, 20) + 1) * block;
    if (size < 32 || size > 1024 || inode_size < 128 || inode_size > block || inodes > 65536) return;
    std::array<std::uint8_t, 4> number{};
    for (std::uint32_t group = 0; group < 16 && fits(volume, table + group * size, size); ++group) {
        const auto one = volume.subspan(table + group * size, size);
        put_little<4>(number, 0, group);
        const auto sum = without(one, 0x1E, 2, [&](Part p) { return castagnoli(castagnoli(seed, number), p); });
        const auto first = little<4>(one, 8) * block;
        if (first == 0) break;
        put_little<2>(one, 0x1E, sum);
        for (std::uint32_t i = 0; i < inodes && fits(volume, first + i * inode_size, inode_size); ++i) {
            const auto inode = volume.subspan(first + i * inode_size, inode_size);
            if (little<2>(inode, 0) == 0) continue;
            put_little<4>(number, 0, group * inodes + i + 1);
            const auto own = castagnoli(castagnoli(seed, number), inode.subspan(0x64, 4));
            const bool high = inode_size > 128 && little<2>(inode, 0x80) >= 4;
            put_little<2>(inode, 0x7C, 0);
            if (high) put_little<2>(inode, 0x82, 0);
            const auto of_inode = castagnoli(own, inode);
            put_little<2>(inode, 0x7C, of_inode);
            if (high) put_little<2>(inode, 0x82, of_inode >> 16U);
        }
    }
    // A folder's first block names the folder itself.
    for (std::size_t at = 0; fits(volume, at, block); at += block) {
        const auto one = volume.subspan(at, block);
        if (little<2>(one, 6) != 0x201 || one[8] != '.' || little<4>(one, block - 12) != 0 || one[block - 5] != 0xDE)
            continue;
        const auto inode = little<4>(one, 0);
        const auto group = inodes == 0 ? 0 : (inode - 1) / inodes;
        const auto there = little<4>(volume, table + group * size + 8) * block +
                           (inode - 1) % std::max<std::uint64_t>(inodes, 1) * inode_size;
        if (inode == 0 || !fits(volume, there, 128)) continue;
        put_little<4>(number, 0, inode);
        const auto own = castagnoli(castagnoli(seed, number), volume.subspan(there + 0x64, 4));
        put_little<4>(one, block - 4, castagnoli(own, one.first(block - 12)));
    }
}
void xfs_sum(Part part, std::size_t field) {
    if (fits(part, field, 4))
        put_little<4>(part, field, ~without(part, field, 4, [](Part p) { return castagnoli(~0U, p); }));
}
/// linux/fs/xfs/libxfs/xfs_format.h, xfs_da_format.h: each thing that has a sum says by its first bytes what it is.
void xfs(Part volume) {
    struct Kind {
        std::string_view magic;
        std::size_t at, field;
        bool sector;
    };
    static constexpr std::array kinds = {
        Kind{"XFSB", 0, 224, true},    Kind{"XAGF", 0, 216, true},     Kind{"XAGI", 0, 312, true},
        Kind{"XAFL", 0, 32, true},     Kind{"XDB3", 0, 4, false},      Kind{"XDD3", 0, 4, false},
        Kind{"XDF3", 0, 4, false},     Kind{"XSLM", 0, 12, false},     Kind{"AB3B", 0, 52, false},
        Kind{"AB3C", 0, 52, false},    Kind{"IAB3", 0, 52, false},     Kind{"FIB3", 0, 52, false},
        Kind{"BMA3", 0, 64, false},    Kind{"\x3B\xEE", 8, 12, false}, Kind{"\x3D\xF1", 8, 12, false},
        Kind{"\x3D\xFF", 8, 12, false}};
    const auto told = says(volume, 0, "XFSB") ? big<2>(volume, 104) : 512;
    const std::size_t inode = told == 256 || told == 1024 || told == 2048 ? told : 512;
    for (std::size_t at = 0; fits(volume, at, 512); at += 512) {
        for (const auto& kind : kinds) {
            if (!says(volume, at + kind.at, kind.magic)) continue;
            const std::size_t length = kind.sector ? 512 : 4096;
            if (fits(volume, at, length)) xfs_sum(volume.subspan(at, length), kind.field);
        }
        for (std::size_t within = 0; within < 512; within += inode)
            if (says(volume, at + within, "IN") && volume[at + within + 4] == 3 && fits(volume, at + within, inode))
                xfs_sum(volume.subspan(at + within, inode), 100);
    }
}
/// Superblock and nodes of a Btrfs whose nodes are one block (linux/fs/btrfs/disk-io.c).
void btrfs(Part volume) {
    std::size_t super = 0;
    while (fits(volume, super, 4096) && !says(volume, super + 64, "_BHRfS_M")) super += 4096;
    if (!fits(volume, super, 4096)) return;
    std::array<std::uint8_t, 16> id{};
    std::copy_n(volume.begin() + static_cast<std::ptrdiff_t>(super) + 32, id.size(), id.begin());
    for (std::size_t at = 0; fits(volume, at, 4096); at += 4096)
        if (std::equal(id.begin(), id.end(), volume.begin() + static_cast<std::ptrdiff_t>(at) + 32))
            put_little<4>(volume, at, ~castagnoli(~0U, volume.subspan(at + 32, 4096 - 32)));
}
/// Microsoft's exFAT specification 3.4.
void exfat(Part volume) {
    if (!says(volume, 3, "EXFAT   ") || !fits(volume, 0, 12 * 512)) return;
    std::uint32_t sum = 0;
    for (std::size_t at = 0; at < std::size_t{11} * 512; ++at)
        if (at != 106 && at != 107 && at != 112) sum = (sum << 31U | sum >> 1U) + volume[at];
    for (std::size_t at = 0; at < 512; at += 4) put_little<4>(volume, std::size_t{11} * 512 + at, sum);
}
/// drivers/mtd/ubi, fs/ubifs, fs/jffs2: headers and nodes anywhere.
void flash(Part volume) {
    // Only where the volume begins with one of them: their marks are short, and stand in other things by chance.
    if (!says(volume, 0, "UBI#") && little<4>(volume, 0) != 0x06101831 && little<2>(volume, 0) != 0x1985) return;
    for (std::size_t at = 0; fits(volume, at, 64); at += 4) {
        const auto here = volume.subspan(at);
        if (says(here, 0, "UBI#") || says(here, 0, "UBI!")) put_big32(here, 60, ~crc32(0, here.first(60)));
        if (little<4>(here, 0) == 0x06101831) {
            const auto length = little<4>(here, 16);
            if (length >= 24 && length < 65536 && fits(here, 0, length))
                put_little<4>(here, 4, ~crc32(0, here.subspan(8, length - 8)));
        }
        if (little<2>(here, 0) != 0x1985) continue;
        const auto kind = little<2>(here, 2);
        const auto turned = [](Part p) { return p.empty() ? 0U : ~crc32(~0U, p); };
        put_little<4>(here, 8, turned(here.first(8)));
        if (kind == 0xE001 && fits(here, 40, here[28])) {
            put_little<4>(here, 36, turned(here.subspan(40, here[28])));
            put_little<4>(here, 32, turned(here.first(32)));
        } else if (kind == 0xE002 && fits(here, 0, 68)) {
            if (const auto length = little<4>(here, 48); length < 65536 && fits(here, 68, length))
                put_little<4>(here, 60, turned(here.subspan(68, length)));
            put_little<4>(here, 64, turned(here.first(60)));
        }
    }
}

// --- layers ---------------------------------------------------------------------------------------------------------

/// lvm2: lib/format_text/layout.h.
void lvm(Part member) {
    const auto sum = [](Part p) { return ~crc32(~0xF597A6CFU, p); };
    for (std::size_t at = 0; fits(member, at, 512); at += 512) {
        if (says(member, at, "LABELONE")) put_little<4>(member, at + 16, sum(member.subspan(at + 20, 492)));
        if (!says(member, at + 4, " LVM2 x[5A%r0N*>")) continue;
        for (std::size_t slot = 40; slot < 40 + 4 * 24; slot += 24) {
            const auto offset = little<8>(member, at + slot), length = little<8>(member, at + slot + 8);
            if (length != 0 && length < (1U << 20U) && offset < (1U << 20U) && fits(member, at + offset, length))
                put_little<4>(member, at + slot + 16, sum(member.subspan(at + offset, length)));
        }
        put_little<4>(member, at, sum(member.subspan(at + 4, 508)));
    }
}
/// linux/include/uapi/linux/raid/md_p.h, version 1.
void md(Part member) {
    for (const std::size_t at : {std::size_t{0}, std::size_t{4096}}) {
        if (little<4>(member, at) != 0xA92B4EFC || little<4>(member, at + 4) != 1) continue;
        const std::size_t length = 256 + little<4>(member, at + 220) * 2;
        if (length > 4096 || !fits(member, at, length)) continue;
        std::uint64_t sum = 0;
        put_little<4>(member, at + 216, 0);
        for (std::size_t i = 0; i + 4 <= length; i += 4) sum += little<4>(member, at + i);
        if (length % 4 == 2) sum += little<2>(member, at + length - 2);
        put_little<4>(member, at + 216, (sum & 0xFFFFFFFFU) + (sum >> 32U));
    }
}
/// The LUKS2 on-disk format 2.1.
void luks(Part member) {
    for (std::size_t at = 0; fits(member, at, 4096); at += 4096) {
        if (!says(member, at, "LUKS\xBA\xBE") && !says(member, at, "SKUL\xBA\xBE")) continue;
        const auto length = big<8>(member, at + 8);
        if (big<2>(member, at + 6) != 2 || length > (1U << 20U) || length < 512 || !fits(member, at, length)) continue;
        const auto sum = member.subspan(at + 448, 64);
        std::fill(sum.begin(), sum.end(), std::uint8_t{0});
        std::array<std::uint8_t, 64> digest{};
        (void)EVP_Digest(member.data() + at, length, digest.data(), nullptr, EVP_sha256(), nullptr);
        std::copy_n(digest.begin(), 32, sum.begin());
    }
}

// --- what firmware and boards read ----------------------------------------------------------------------------------

void hive(Part bytes) {
    if (!says(bytes, 0, "regf") || bytes.size() < 512) return;
    std::uint32_t sum = 0;
    for (std::size_t at = 0; at < 508; at += 4) sum ^= static_cast<std::uint32_t>(little<4>(bytes, at));
    put_little<4>(bytes, 508, sum == 0 ? 1 : sum == ~0U ? ~1U : sum);
}
/// UEFI Platform Initialization, volume 3, 3.2.1.1.
void firmware_volume(Part bytes) {
    if (!says(bytes, 40, "_FVH")) return;
    const auto length = little<2>(bytes, 48);
    std::uint64_t sum = 0;
    put_little<2>(bytes, 50, 0);
    for (std::size_t at = 0; at + 2 <= length && fits(bytes, at, 2); at += 2) sum += little<2>(bytes, at);
    put_little<2>(bytes, 50, 0x10000 - (sum & 0xFFFFU));
}
/// U-Boot: include/image.h, env/common.c; Allwinner's first program.
void board(Part bytes, std::uint8_t also) {
    if (says(bytes, 4, "eGON.BT0")) {
        const auto length = little<4>(bytes, 16);
        if (length > bytes.size()) return;
        std::uint64_t sum = 0x5F0A6C39;
        for (std::size_t at = 0; at + 4 <= length; at += 4) sum += at == 12 ? 0 : little<4>(bytes, at);
        put_little<4>(bytes, 12, sum);
    } else if (big<4>(bytes, 0) == 0x27051956 && bytes.size() >= 64) {
        if (const auto length = big<4>(bytes, 12); length <= bytes.size() - 64)
            put_big32(bytes, 24, crc32(0, bytes.subspan(64, length)));
        put_big32(bytes, 4, without(bytes.first(64), 4, 4, [](Part p) { return crc32(0, p); }));
    } else if (bytes.size() > 5 && std::find(bytes.begin() + 4, bytes.end(), '=') != bytes.end()) {
        const std::size_t head = also % 2 == 0 ? 4 : 5;
        put_little<4>(bytes, 0, crc32(0, bytes.subspan(head)));
    }
}

}  // namespace

void mend(Sums kind, std::span<std::uint8_t> bytes, std::uint8_t also) {
    switch (kind) {
        case Sums::Disk:
            gpt(bytes, 512);
            if (bytes.size() >= 1024) gpt(bytes, bytes.size() / 512 * 512 - 512);
            catalogue(bytes);
            break;
        case Sums::Volume:
            ext(bytes);
            xfs(bytes);
            btrfs(bytes);
            exfat(bytes);
            flash(bytes);
            break;
        case Sums::Layers:
            for (std::size_t i = 0, each = bytes.size() / 3; i < 3; ++i) {
                const auto member = bytes.subspan(i * each, each);
                lvm(member);
                md(member);
                luks(member);
                btrfs(member);
            }
            break;
        case Sums::Hive: hive(bytes); break;
        case Sums::Firmware: firmware_volume(bytes); break;
        case Sums::Board:
            board(bytes, also);
            flash(bytes);
            break;
    }
}

}  // namespace fuzz
