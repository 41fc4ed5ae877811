// SPDX-License-Identifier: MIT
#include <herberge/files.hpp>

namespace herberge {

const FormatTraits& traits_of(Format format) {
    static constexpr FormatTraits rows[] = {
#define HERBERGE_FORMAT(name, text, family, content, linux, option, words, grub, mounts) \
    {Format::name, text, Family::family, Content::content, linux, option, words, grub, mounts},
#include <herberge/formats.def>
#undef HERBERGE_FORMAT
    };
    return rows[static_cast<std::size_t>(format)];
}

}  // namespace herberge
