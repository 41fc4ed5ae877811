// SPDX-License-Identifier: MIT
#include "loader/grub/features.hpp"

#include <algorithm>

#include "files/ext_fs.hpp"
#include "files/features.hpp"

namespace herberge::grub {

namespace {

struct Driver {
    std::string_view name;
    Family family;
    bool swapped;          ///< the disk has the highest byte first, so that the code tests a mask turned round
    std::uint32_t surely;  ///< every GRUB that looks at features takes these
    std::uint32_t latest;  ///< and none takes more than these
};

namespace bits = ext::incompat;
constexpr std::uint32_t latest_ext = bits::filetype | bits::recover | bits::meta_bg | bits::extents | bits::bit64 |
                                     bits::mmp | bits::flex_bg | bits::csum_seed | bits::largedir | bits::encrypt;
constexpr std::uint32_t latest_xfs = 0xFF;

/// grub-core/fs/ext2.c (EXT2_DRIVER_SUPPORTED_INCOMPAT and …_IGNORED_…), fs/xfs.c (XFS_SB_FEAT_INCOMPAT_SUPPORTED).
constexpr Driver drivers[] = {
    {"ext2", Family::Ext, false, bits::filetype | bits::recover | bits::extents | bits::flex_bg, latest_ext},
    {"xfs", Family::Xfs, true, 0x1, latest_xfs},
};

/// An instruction of x86 that tests bits against a constant ends at its four bytes: `test eax, …`, `and eax, …`,
/// `test r/m32, …`, `and r/m32, …` with a register, or memory at a register and a distance of one or four bytes.
bool tests_bits(std::span<const std::uint8_t> code, std::size_t constant) {
    const auto before = [&](std::size_t back) { return back <= constant ? code[constant - back] : std::uint8_t{0}; };
    if (before(1) == 0xA9 || before(1) == 0x25) return true;
    for (const std::size_t distance : {0U, 1U, 4U}) {
        const std::uint8_t opcode = before(distance + 2);
        const std::uint8_t form = before(distance + 1);
        const unsigned mode = form >> 6U;
        const unsigned wanted = distance == 0 ? 3 : distance == 1 ? 1 : 2;
        const unsigned operation = form >> 3U & 7U;
        if (mode == wanted && ((opcode == 0xF7 && operation == 0) || (opcode == 0x81 && operation == 4))) return true;
    }
    return false;
}

}  // namespace

std::optional<std::uint32_t> accepted_features(std::string_view name, std::span<const std::uint8_t> code) {
    const auto* const driver = std::ranges::find(drivers, name, &Driver::name);
    if (driver == std::end(drivers)) return std::nullopt;
    std::optional<std::uint32_t> out;
    for (std::size_t at = 0; at + 4 <= code.size(); ++at) {
        std::uint32_t refused = 0;
        for (std::size_t i = 0; i < 4; ++i)
            refused |= std::uint32_t{code[at + i]} << (driver->swapped ? 24 - i * 8 : i * 8);
        const std::uint32_t taken = ~refused;
        if ((taken & driver->surely) != driver->surely || (taken & ~driver->latest) != 0 || !tests_bits(code, at))
            continue;
        if (out && *out != taken) return std::nullopt;  // two such: which is meant is not told
        out = taken;
    }
    return out;
}

std::vector<std::string> refused_features(const VolumeInfo& info, std::optional<std::uint32_t> accepted) {
    const auto* const driver = std::ranges::find_if(drivers, [&](const Driver& d) { return info.is(d.family); });
    if (driver == std::end(drivers)) return {};
    // Where the code does not tell, a feature without a name is one that a later driver may know.
    const std::uint32_t named = incompatible_known_to(driver->family, no_kernel);
    const std::uint32_t refused = info.incompatible & (accepted ? ~*accepted : named & ~driver->latest);
    return refused == 0 ? std::vector<std::string>{} : incompatible_names(driver->family, refused);
}

}  // namespace herberge::grub
