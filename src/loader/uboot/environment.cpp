// SPDX-License-Identifier: MIT
#include "loader/uboot/environment.hpp"

#include <algorithm>

#include "ondisk/describe.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr std::uint64_t page = 4096;
constexpr std::uint64_t most_dump = std::uint64_t{256} << 20U;
constexpr std::uint64_t most_size = std::uint64_t{1} << 20U;
constexpr std::size_t most_variables = 10'000;

bool name_character(std::uint8_t c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '.' ||
           c == '-' || c == '+' || c == ',' || c == '#';
}

/// The bytes begin like "name=": a name of at most 64 characters.
bool begins_like_variable(std::span<const std::uint8_t> bytes) {
    std::size_t i = 0;
    while (i < bytes.size() && i < 64 && name_character(bytes[i])) ++i;
    return i > 0 && i < bytes.size() && bytes[i] == '=';
}

std::optional<StoredVariables> judge(std::span<const std::uint8_t> bytes) {
    constexpr std::size_t checksum = 4;
    if (bytes.size() < checksum + 3) return std::nullopt;
    const std::uint32_t stored = ondisk::from_bytes<ondisk::little_uint32_t>(bytes);
    StoredVariables out;
    out.size = bytes.size();
    for (const std::size_t skip : {checksum, checksum + 1}) {
        if (!begins_like_variable(bytes.subspan(skip))) continue;
        out.variables = parse_variables(bytes.subspan(skip));
        if (skip > checksum) out.flag = bytes[checksum];
        out.sound = crc32(0, bytes.subspan(skip)) == stored;
        if (out.sound) return out;
    }
    return out.variables.empty() ? std::nullopt : std::optional(out);
}

}  // namespace

Variables parse_variables(std::span<const std::uint8_t> bytes, char separator) {
    Variables out;
    std::string_view rest(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    rest = rest.substr(0, rest.find(separator == '\0' ? std::string_view("\0\0", 2) : std::string_view("\0", 1)));
    for (std::size_t at = 0; at < rest.size() && rest[at] != '\0' && out.size() < most_variables;) {
        const auto equals = rest.find_first_of(std::string{'=', separator}, at);
        const std::string name(rest.substr(at, equals - at));
        at = std::min(equals, rest.size());
        std::string value;
        const bool given = at < rest.size() && rest[at] == '=';
        if (given) ++at;
        // Separators and backslashes in a value have a backslash before them.
        while (at < rest.size() && rest[at] != separator) {
            if (rest[at] == '\\' && at + 1 < rest.size()) ++at;
            value += rest[at++];
        }
        ++at;
        if (given && !name.empty()) out.insert_or_assign(name, std::move(value));
    }
    return out;
}

std::optional<StoredVariables> read_stored(const ByteSource& source) {
    const auto bytes = source.bytes(0, source.size(), most_size);
    return bytes ? judge(*bytes) : std::nullopt;
}

std::optional<StoredVariables> find_stored(const ByteSource& dump) {
    constexpr std::uint64_t kib = 1024;
    std::optional<StoredVariables> best;
    const std::uint64_t end = std::min(dump.size(), most_dump);
    for (std::uint64_t at = 0; at < end; at += page) {
        const auto start = dump.bytes(at, std::min<std::uint64_t>(80, end - at));
        if (!start || start->size() < 16) continue;
        if (!begins_like_variable(std::span(*start).subspan(4)) && !begins_like_variable(std::span(*start).subspan(5)))
            continue;
        std::optional<StoredVariables> here;
        for (const std::uint64_t size : {end - at, 4 * kib, 8 * kib, 16 * kib, 32 * kib, 64 * kib, 128 * kib, 256 * kib,
                                         512 * kib, 10 * kib, 12 * kib, 24 * kib, 48 * kib, 96 * kib}) {
            if (size > end - at || size > most_size) continue;
            const auto bytes = dump.bytes(at, size);
            auto one = bytes ? judge(*bytes) : std::nullopt;
            if (!one) continue;
            one->at = at;
            if (!here || one->sound) here = std::move(one);
            if (here->sound) break;
        }
        if (!here) continue;
        if (!best || (here->sound && !best->sound) || (here->sound && newer(*here, *best))) best = std::move(here);
    }
    return best;
}

bool newer(const StoredVariables& a, const StoredVariables& b) {
    if (!a.flag || !b.flag || *a.flag == *b.flag) return false;
    if (*a.flag == 0 && *b.flag == 255) return true;
    if (*a.flag == 255 && *b.flag == 0) return false;
    return *a.flag > *b.flag;
}

Variables find_built_in(const ByteSource& source, std::uint64_t at, std::uint64_t length) {
    constexpr std::uint64_t most = std::uint64_t{8} << 20U;
    const auto bytes = source.bytes(at, std::min({length, most, source.size() - std::min(at, source.size())}));
    if (!bytes) return {};
    const std::string_view all(reinterpret_cast<const char*>(bytes->data()), bytes->size());
    Variables best;
    // The list of defaults holds "bootcmd=" or "bootdelay=" behind a zero; it begins where texts with "=" begin.
    for (const std::string_view known : {std::string_view("\0bootcmd=", 9), std::string_view("\0bootdelay=", 11)})
        for (std::size_t found = all.find(known); found != std::string_view::npos; found = all.find(known, found + 1)) {
            std::size_t begin = found + 1;
            while (begin > 1) {
                const std::size_t before = all.rfind('\0', begin - 2);
                const std::size_t start = before == std::string_view::npos ? 0 : before + 1;
                if (start >= begin - 1 || !begins_like_variable(std::span(*bytes).subspan(start, begin - 1 - start)))
                    break;
                begin = start;
            }
            auto variables = parse_variables(std::span(*bytes).subspan(begin));
            if (variables.size() > best.size()) best = std::move(variables);
        }
    return best;
}

}  // namespace herberge::loader::uboot
