// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <zlib.h>
#include <array>
#include <ctime>

#include <herberge/bytes.hpp>

namespace herberge {

std::string Error::text() const {
    std::string out;
    if (!place.empty()) out = place + ": ";
    out += what;
    if (!expected.empty()) out += "; expected " + expected;
    if (!found.empty()) out += (expected.empty() ? "; found " : ", found ") + found;
    return out;
}

Lack Error::lack() const {
    switch (kind) {
        case ErrorKind::NotFound:
        case ErrorKind::WrongType: return Lack::Absent;
        case ErrorKind::Io:
        case ErrorKind::Unreadable: return Lack::Unreadable;
        case ErrorKind::Unsupported: return Lack::Unsupported;
        case ErrorKind::Exhausted: return Lack::Exhausted;
        case ErrorKind::OutOfRange:
        case ErrorKind::Malformed:
        case ErrorKind::Checksum:
        case ErrorKind::LinkLoop:
        case ErrorKind::TooLarge: break;
    }
    return Lack::Damaged;
}

std::string DiskRange::text() const { return fmt::format("d{}@{}+{}", disk, offset, length); }

namespace {

template <class Word, Word Polynomial>
constexpr std::array<Word, 256> reflected_table() {
    std::array<Word, 256> table{};
    for (unsigned i = 0; i < 256; ++i) {
        auto value = static_cast<Word>(i);
        for (int bit = 0; bit < 8; ++bit)
            value = static_cast<Word>((value & 1U) != 0 ? (value >> 1U) ^ Polynomial : value >> 1U);
        table[i] = value;
    }
    return table;
}

}  // namespace

std::uint32_t crc32c(std::uint32_t seed, std::span<const std::uint8_t> bytes) noexcept {
    static constexpr auto table = reflected_table<std::uint32_t, 0x82F63B78U>();
    for (const auto byte : bytes) seed = table[(seed ^ byte) & 0xFFU] ^ (seed >> 8U);
    return seed;
}

std::uint16_t crc16(std::uint16_t seed, std::span<const std::uint8_t> bytes) noexcept {
    static constexpr auto table = reflected_table<std::uint16_t, 0xA001U>();
    for (const auto byte : bytes) seed = static_cast<std::uint16_t>(table[(seed ^ byte) & 0xFFU] ^ (seed >> 8U));
    return seed;
}

std::uint32_t crc32(std::uint32_t seed, std::span<const std::uint8_t> bytes) noexcept {
    return static_cast<std::uint32_t>(::crc32_z(seed, bytes.data(), bytes.size()));
}

std::string hex(std::span<const std::uint8_t> bytes, std::string_view between) {
    return fmt::format("{:02x}", fmt::join(bytes, between));
}

std::string uuid_text(std::span<const std::uint8_t, 16> bytes) {
    return hex(bytes.subspan(0, 4), "") + "-" + hex(bytes.subspan(4, 2), "") + "-" + hex(bytes.subspan(6, 2), "") +
           "-" + hex(bytes.subspan(8, 2), "") + "-" + hex(bytes.subspan(10, 6), "");
}

std::string guid_text(std::span<const std::uint8_t, 16> bytes) {
    std::array<std::uint8_t, 16> turned{};
    static constexpr std::array<std::size_t, 16> order = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    for (std::size_t i = 0; i < order.size(); ++i) turned.at(i) = bytes[order.at(i)];
    return uuid_text(turned);
}

std::string utc_text(std::int64_t seconds) {
    const auto time = static_cast<std::time_t>(seconds);
    std::tm parts{};
    if (gmtime_r(&time, &parts) == nullptr) return "an impossible time";
    return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02} UTC", parts.tm_year + 1900, parts.tm_mon + 1, parts.tm_mday,
                       parts.tm_hour, parts.tm_min, parts.tm_sec);
}

std::string lower_text(std::string_view text) {
    std::string out(text);
    for (char& c : out)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + ('a' - 'A'));
    return out;
}

std::string size_text(std::uint64_t bytes) {
    static constexpr std::array<const char*, 6> units = {"KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
    if (bytes < 1024) return fmt::format("{} B", bytes);
    double value = static_cast<double>(bytes) / 1024;
    std::size_t unit = 0;
    while (value >= 1024 && unit + 1 < units.size()) {
        value /= 1024;
        ++unit;
    }
    return fmt::format("{:.1f} {}", value, units[unit]);
}

namespace {

/// Length of the well-formed UTF-8 sequence at the start of `text`, 0 if there is none.
std::size_t utf8_length(std::string_view text) {
    const auto lead = static_cast<std::uint8_t>(text[0]);
    if (lead < 0x80) return 1;
    const std::size_t length = lead >= 0xF0 && lead < 0xF5   ? 4
                               : lead >= 0xE0 && lead < 0xF0 ? 3
                               : lead >= 0xC2 && lead < 0xE0 ? 2
                                                             : 0;
    if (length == 0 || text.size() < length) return 0;
    for (std::size_t i = 1; i < length; ++i)
        if ((static_cast<std::uint8_t>(text[i]) & 0xC0U) != 0x80) return 0;
    const auto second = static_cast<std::uint8_t>(text[1]);
    // Overlong forms, surrogates and values past U+10FFFF are not characters (RFC 3629).
    if ((lead == 0xE0 && second < 0xA0) || (lead == 0xED && second > 0x9F) || (lead == 0xF0 && second < 0x90) ||
        (lead == 0xF4 && second > 0x8F))
        return 0;
    // C1 control characters reach a terminal as commands.
    if (lead == 0xC2 && second < 0xA0) return 0;
    return length;
}

}  // namespace

namespace {

/// Characters that are not seen and change how others are: marks of direction, joiners, tags (Unicode, general category
/// Cf, and the separators U+2028 and U+2029).
bool unseen(std::string_view sequence) {
    std::uint32_t c = static_cast<std::uint8_t>(sequence[0]) & (sequence.size() == 2   ? 0x1FU
                                                                : sequence.size() == 3 ? 0x0FU
                                                                                       : 0x07U);
    for (const char next : sequence.substr(1)) c = c << 6U | (static_cast<std::uint8_t>(next) & 0x3FU);
    return c == 0x00AD || c == 0x061C || c == 0x180E || (c >= 0x200B && c <= 0x200F) || (c >= 0x2028 && c <= 0x202E) ||
           (c >= 0x2060 && c <= 0x206F) || c == 0xFEFF || (c >= 0xFFF9 && c <= 0xFFFB) ||
           (c >= 0xE0000 && c <= 0xE0FFF);
}

bool hex_digit(char c) { return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F'); }

std::string escaped(std::string_view text, bool backslashes) {
    std::string out;
    out.reserve(text.size());
    while (!text.empty()) {
        const auto first = static_cast<std::uint8_t>(text[0]);
        if (first == '\\' && backslashes) {
            // Only where it could be taken for an escape: a run of them before "xNN" is doubled.
            const std::size_t run = std::min(text.find_first_not_of('\\'), text.size());
            const auto rest = text.substr(run);
            const bool like_escape = rest.size() >= 3 && rest[0] == 'x' && hex_digit(rest[1]) && hex_digit(rest[2]);
            out.append(like_escape ? 2 * run : run, '\\');
            text.remove_prefix(run);
            continue;
        }
        const std::size_t length = utf8_length(text);
        if (length == 0 || (length == 1 && (first < 0x20 || first == 0x7F)) ||
            (length > 1 && unseen(text.substr(0, length)))) {
            const std::size_t count = std::max<std::size_t>(length, 1);
            for (const char c : text.substr(0, count)) out += fmt::format("\\x{:02x}", static_cast<std::uint8_t>(c));
            text.remove_prefix(count);
        } else {
            out += text.substr(0, length);
            text.remove_prefix(length);
        }
    }
    return out;
}

}  // namespace

std::string printable(std::string_view text) { return escaped(text, true); }
std::string shown(std::string_view text) { return escaped(text, false); }

std::vector<std::string> messages_in(std::span<const std::uint8_t> bytes, std::size_t least) {
    std::vector<std::string> out;
    std::string run;
    auto flush = [&] {
        if (run.size() >= least) out.push_back(run);
        run.clear();
    };
    for (const auto byte : bytes) {
        if (byte >= 0x20 && byte < 0x7F) run += static_cast<char>(byte);
        else flush();
    }
    flush();
    return out;
}

}  // namespace herberge
