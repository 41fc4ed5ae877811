// SPDX-License-Identifier: MIT
#include "bytes/text16.hpp"

#include <algorithm>
#include <boost/locale/utf.hpp>
#include <iterator>

namespace herberge {

namespace {
using Utf8 = boost::locale::utf::utf_traits<char>;
using Utf16 = boost::locale::utf::utf_traits<char16_t>;
constexpr boost::locale::utf::code_point replacement = 0xFFFD;
}  // namespace

std::string utf8_from(std::u16string_view text) {
    std::string out;
    for (const auto* at = text.data(); at != text.data() + text.size();) {
        auto c = Utf16::decode(at, text.data() + text.size());
        if (c == boost::locale::utf::illegal || c == boost::locale::utf::incomplete) c = replacement;
        Utf8::encode(c, std::back_inserter(out));
    }
    return out;
}

std::u16string units_from(std::span<const std::uint8_t> bytes, bool big_endian, bool stop_at_zero) {
    std::u16string out;
    out.reserve(bytes.size() / 2);
    for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) {
        const auto unit =
            static_cast<char16_t>(big_endian ? bytes[i] << 8U | bytes[i + 1] : bytes[i + 1] << 8U | bytes[i]);
        if (unit == 0 && stop_at_zero) break;
        out += unit;
    }
    return out;
}

std::u16string utf16_from(std::string_view text) {
    std::u16string out;
    for (const auto* at = text.data(); at != text.data() + text.size();) {
        auto c = Utf8::decode(at, text.data() + text.size());
        if (c == boost::locale::utf::illegal || c == boost::locale::utf::incomplete) c = replacement;
        Utf16::encode(c, std::back_inserter(out));
    }
    return out;
}

char16_t simple_upper(char16_t c) {
    if (c >= u'a' && c <= u'z') return static_cast<char16_t>(c - 32);
    if (c < 0x80) return c;
    if ((c >= 0xE0 && c <= 0xFE && c != 0xF7) || (c >= 0x3B1 && c <= 0x3C9 && c != 0x3C2) || (c >= 0x430 && c <= 0x44F))
        return static_cast<char16_t>(c - 32);
    if (c == 0xFF) return 0x178;
    if (c >= 0x450 && c <= 0x45F) return static_cast<char16_t>(c - 80);
    // Pairs of Latin letters: in two stretches the small one has the even number.
    const bool even = (c >= 0x139 && c <= 0x148) || (c >= 0x179 && c <= 0x17E);
    if (c >= 0x100 && c <= 0x17E && c != 0x131 && c != 0x138 && c != 0x149 && c != 0x178 &&
        (c & 1U) == (even ? 0U : 1U))
        return static_cast<char16_t>(c - 1);
    return c;
}

bool same_name(std::string_view a, std::string_view b) {
    if (a == b) return true;
    const bool ascii = std::ranges::all_of(a, [](char c) { return static_cast<unsigned char>(c) < 0x80; }) &&
                       std::ranges::all_of(b, [](char c) { return static_cast<unsigned char>(c) < 0x80; });
    auto upper = [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; };
    if (ascii) return std::ranges::equal(a, b, {}, upper, upper);
    return std::ranges::equal(utf16_from(a), utf16_from(b), {}, simple_upper, simple_upper);
}

}  // namespace herberge
