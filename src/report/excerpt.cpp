// SPDX-License-Identifier: MIT
#include "report/excerpt.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <span>

#include <herberge/places.hpp>

namespace herberge::report {

namespace {

constexpr std::uint64_t most_bytes = 96;
constexpr std::size_t per_line = 16;
constexpr std::uint64_t most_text = std::uint64_t{1} << 20U;
constexpr int around = 2;
constexpr std::size_t most_letters = 200;

std::string letters(std::span<const std::uint8_t> bytes) {
    std::string out;
    for (const auto byte : bytes) out += byte >= 0x20 && byte < 0x7F ? static_cast<char>(byte) : '.';
    return out;
}

std::optional<Excerpt> bytes_of(const Machine& machine, const DiskRange& range) {
    const Disk* disk = machine.disk(range.disk);
    const auto count = std::min(range.length, most_bytes);
    if (disk == nullptr || count == 0) return std::nullopt;
    const auto bytes = disk->source->bytes(range.offset, count);
    if (!bytes) return std::nullopt;
    Excerpt out;
    for (std::size_t at = 0; at < bytes->size(); at += per_line) {
        const auto part = std::span(*bytes).subspan(at, std::min(per_line, bytes->size() - at));
        out.lines.push_back(
            {fmt::format("{:08x}", range.offset + at), fmt::format("{:<47}  {}", hex(part), letters(part)), true});
    }
    if (range.length > count) out.more = fmt::format("and {} more bytes", range.length - count);
    return out;
}

std::string cut(std::string line) {
    constexpr std::size_t tab = 4;
    for (auto at = line.find('\t'); at != std::string::npos; at = line.find('\t'))
        line.replace(at, 1, tab - at % tab, ' ');
    while (line.ends_with('\r')) line.pop_back();
    if (line.size() <= most_letters) return printable(line);
    // Not through a character of several bytes.
    std::size_t end = most_letters;
    while (end > 0 && (static_cast<std::uint8_t>(line[end]) & 0xC0U) == 0x80U) --end;
    return printable(std::string_view(line).substr(0, end)) + " …";
}

std::optional<Excerpt> lines_of(const Machine& machine, const std::string& place, int wanted) {
    const auto named = file_place(place);
    if (!named || wanted < 1) return std::nullopt;
    const auto volume = machine.at(named->volume);
    const auto* fs = volume != nullptr ? volume->files(Observer::Linux) : nullptr;
    if (fs == nullptr) return std::nullopt;
    const auto text = read_text_file(*fs, named->path, most_text);
    if (!text) return std::nullopt;
    Excerpt out;
    int number = 0;
    bool reached = false;
    for (std::string_view rest = *text; !rest.empty() && number < wanted + around;) {
        const auto end = std::min(rest.find('\n'), rest.size());
        if (++number >= wanted - around) {
            out.lines.push_back({std::to_string(number), cut(std::string(rest.substr(0, end))), number == wanted});
            reached = reached || number == wanted;
        }
        rest.remove_prefix(std::min(end + 1, rest.size()));
    }
    return reached ? std::optional(std::move(out)) : std::nullopt;
}

}  // namespace

std::optional<Excerpt> excerpt(const Machine& machine, const Evidence& evidence) {
    if (evidence.line) return lines_of(machine, evidence.place, *evidence.line);
    if (evidence.range) return bytes_of(machine, *evidence.range);
    return std::nullopt;
}

}  // namespace herberge::report
