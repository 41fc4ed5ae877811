// SPDX-License-Identifier: MIT
#include <algorithm>

#include "servers.hpp"

namespace forge {

Bytes make_mirror(const Bytes& content, unsigned role, const MirrorOptions& options) {
    constexpr std::size_t super_at = 4096;
    constexpr std::size_t own = 256;
    constexpr std::uint64_t sector = 512;
    const std::uint64_t sectors = (content.size() + sector - 1) / sector;
    Bytes super(own + 2 * 2);
    put32(super, 0, 0xA92B4EFCU);
    put32(super, 4, 1);
    std::ranges::copy(options.uuid, super.begin() + 16);
    std::copy_n(options.name.begin(), std::min<std::size_t>(31, options.name.size()), super.begin() + 32);
    put64(super, 64, 1767225600U);
    put32(super, 72, 1);
    put64(super, 80, sectors);
    put32(super, 92, 2);
    put64(super, 128, mirror_data_at / sector);
    put64(super, 136, sectors);
    put64(super, 144, super_at / sector);
    put32(super, 160, role);
    // A member's own number differs from the array's in the last byte.
    std::ranges::copy(options.uuid, super.begin() + 168);
    super[183] = static_cast<std::uint8_t>(super[183] + 1 + role);
    put64(super, 192, 1767225600U);
    put64(super, 200, options.events);
    put64(super, 208, ~std::uint64_t{0});
    put32(super, 220, 2);
    put16(super, own + 2, 1);
    std::uint64_t sum = 0;
    for (std::size_t at = 0; at < super.size(); at += 4) sum += get32(super, at);
    put32(super, 216, static_cast<std::uint32_t>(sum) + static_cast<std::uint32_t>(sum >> 32U));
    Bytes out(mirror_data_at + sectors * sector);
    std::ranges::copy(super, out.begin() + super_at);
    std::ranges::copy(content, out.begin() + mirror_data_at);
    return out;
}

}  // namespace forge
