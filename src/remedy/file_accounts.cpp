// SPDX-License-Identifier: MIT
// What differs inside of two files, in the terms of what they hold.
#include <fmt/format.h>
#include <algorithm>
#include <set>

#include <herberge/artifact.hpp>
#include <herberge/hive.hpp>
#include <herberge/lines.hpp>
#include <herberge/pe.hpp>

#include "loader/windows/store.hpp"
#include "remedy/differences.hpp"

namespace herberge::remedy {

namespace {

constexpr std::size_t most_details = 24;
constexpr std::size_t most_lines = 1500;
constexpr std::uint64_t most_text = std::uint64_t{1} << 20U;

/// As they are shown: without returns and tabs.
std::vector<std::string> split(std::string_view text) {
    auto out = lines_of(text);
    for (auto& line : out) {
        if (line.ends_with('\r')) line.pop_back();
        for (auto at = line.find('\t'); at != std::string::npos; at = line.find('\t')) line.replace(at, 1, "    ");
    }
    return out;
}

void cut(std::vector<std::string>& details) {
    if (details.size() <= most_details) return;
    const auto rest = details.size() - (most_details - 1);
    details.resize(most_details - 1);
    details.push_back(fmt::format("and {} more", rest));
}

/// The text of a file that is one; none: it is none.
std::optional<std::string> text_of(const ByteSource& file) {
    if (file.size() == 0 || file.size() > most_text) return std::nullopt;
    const auto bytes = file.bytes(0, file.size(), most_text);
    if (!bytes || std::ranges::find(*bytes, std::uint8_t{0}) != bytes->end()) return std::nullopt;
    return std::string(bytes->begin(), bytes->end());
}

std::string kernel_text(const KernelImage& kernel) {
    return fmt::format("Linux {}, {}", kernel.release.empty() ? "of an unknown version" : kernel.release,
                       kernel.soundness_text.empty() ? "not checked" : kernel.soundness_text);
}

std::string ramdisk_text(const Ramdisk& ramdisk) {
    return fmt::format("{} files, {} modules{}{}", ramdisk.files.size(), ramdisk.modules.size(),
                       ramdisk.builder.empty() ? "" : ", made by " + ramdisk.builder,
                       ramdisk.damage ? ", damaged: " + ramdisk.damage->what : "");
}

bool same_member(const RamdiskFile& one, const RamdiskFile& other) {
    return one.mode == other.mode && one.size == other.size && one.target == other.target &&
           one.content == other.content && one.complete == other.complete;
}

/// Drivers first: they decide most.
std::vector<std::string> ramdisk_details(const Ramdisk& before, const Ramdisk& after) {
    std::vector<std::string> out;
    const std::set<std::string> was(before.modules.begin(), before.modules.end());
    const std::set<std::string> is(after.modules.begin(), after.modules.end());
    for (const auto& one : was)
        if (!is.contains(one)) out.push_back("- module " + one);
    for (const auto& one : is)
        if (!was.contains(one)) out.push_back("+ module " + one);
    for (const auto& [path, file] : before.files) {
        const auto found = after.files.find(path);
        if (found == after.files.end()) out.push_back("- " + path);
        else if (!same_member(file, found->second)) out.push_back("± " + path);
    }
    for (const auto& [path, file] : after.files)
        if (!before.files.contains(path)) out.push_back("+ " + path);
    cut(out);
    return out;
}

using Lines = std::vector<std::string>;

/// A boot store's objects and elements, each on a line; nothing where the hive is none.
std::optional<Lines> store_lines(const Machine& machine, const ByteSource& file) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    auto bytes = file.bytes(0, file.size(), most);
    if (!bytes) return std::nullopt;
    const auto hive = open_hive(memory_source(std::move(*bytes), "store", 0));
    if (!hive) return std::nullopt;
    const auto store = loader::windows::Store::read(**hive);
    if (!store) return std::nullopt;
    Lines out;
    for (const auto& [id, object] : store->objects()) {
        const auto title = store->text(object, loader::windows::element::description);
        for (const auto& [type, value] : object.elements) {
            std::string text;
            const auto kind = type >> 24U & 0xFU;  // 1 device, 2 text, 3 object, 4 objects, 5 number, 6 yes or no
            if (kind == 1) text = loader::windows::decode_device(machine, value, nullptr).text;
            else if (kind == 5 || kind == 6) text = std::to_string(value.number().value_or(0));
            else
                for (const auto& each : value.texts()) text += (text.empty() ? "" : " ") + each;
            const auto named = loader::windows::element_name(type);
            out.push_back(fmt::format("{}{} {}: {}", id, title.empty() ? "" : fmt::format(" “{}”", title),
                                      named.empty() ? fmt::format("{:08x}", type) : std::string(named), text));
        }
    }
    return out;
}

/// The keys and values of a hive that a start may read: services and control sets, to a bounded depth.
void hive_lines(const Hive& hive, HiveKeyId key, const std::string& path, int depth, Lines& out) {
    constexpr std::size_t most = 60000;
    constexpr int deepest = 6;
    if (depth > deepest || out.size() > most) return;
    if (const auto values = hive.values(key))
        for (const auto& value : *values) {
            std::string text = value.type == 4 || value.type == 11  ? std::to_string(value.number().value_or(0))
                               : value.type == 1 || value.type == 2 ? value.text()
                                                                    : hex(value.data, "");
            if (text.size() > 120) text.replace(120, std::string::npos, "…");
            out.push_back(fmt::format("{}\\{} = {}", path, value.name.empty() ? "(default)" : value.name, text));
        }
    if (const auto keys = hive.subkeys(key))
        for (const auto one : *keys)
            if (const auto named = hive.name(one))
                hive_lines(hive, one, path.empty() ? *named : path + "\\" + *named, depth + 1, out);
}

std::optional<Lines> registry_lines(const ByteSource& file) {
    constexpr std::uint64_t most = std::uint64_t{64} << 20U;
    auto bytes = file.bytes(0, file.size(), most);
    if (!bytes) return std::nullopt;
    const auto hive = open_hive(memory_source(std::move(*bytes), "hive", 0));
    if (!hive) return std::nullopt;
    Lines out;
    hive_lines(**hive, (*hive)->root(), "", 0, out);
    return out;
}

/// What is only in one of two lists whose order means nothing.
std::vector<std::string> set_details(const Lines& before, const Lines& after) {
    std::vector<std::string> out;
    const std::set<std::string> was(before.begin(), before.end());
    const std::set<std::string> is(after.begin(), after.end());
    for (const auto& one : was)
        if (!is.contains(one)) out.push_back("- " + one);
    for (const auto& one : is)
        if (!was.contains(one)) out.push_back("+ " + one);
    // What belongs together stands together.
    std::ranges::stable_sort(out, {}, [](const std::string& line) { return line.substr(2, line.find(": ")); });
    cut(out);
    return out;
}

bool begins_with(const ByteSource& file, std::string_view mark) {
    const auto bytes = file.bytes(0, mark.size());
    return bytes && std::ranges::equal(*bytes, mark, {}, {}, [](char c) { return static_cast<std::uint8_t>(c); });
}

std::string first_other_byte(const ByteSource& before, const ByteSource& after) {
    constexpr std::uint64_t step = std::uint64_t{1} << 16U;
    const auto common = std::min(before.size(), after.size());
    for (std::uint64_t at = 0; at < common; at += step) {
        const auto was = before.bytes(at, std::min(step, common - at));
        const auto is = after.bytes(at, std::min(step, common - at));
        if (!was || !is) return {};
        const auto [one, other] = std::ranges::mismatch(*was, *is);
        if (one != was->end())
            return fmt::format("the first other byte is at {}", at + static_cast<std::uint64_t>(one - was->begin()));
    }
    return before.size() == after.size() ? std::string{}
                                         : fmt::format("the same up to byte {}, where the {} one ends", common,
                                                       before.size() < after.size() ? "first" : "second");
}

}  // namespace

std::vector<std::string> differing_lines(const std::vector<std::string>& before,
                                         const std::vector<std::string>& after) {
    std::size_t head = 0;
    while (head < before.size() && head < after.size() && before[head] == after[head]) ++head;
    std::size_t tail = 0;
    while (tail < before.size() - head && tail < after.size() - head &&
           before[before.size() - 1 - tail] == after[after.size() - 1 - tail])
        ++tail;
    const auto was = std::span(before).subspan(head, before.size() - head - tail);
    const auto is = std::span(after).subspan(head, after.size() - head - tail);
    std::vector<std::string> out;
    if (was.size() > most_lines || is.size() > most_lines)
        return {fmt::format("more than {} lines differ", most_lines)};
    // The longest common subsequence, from the end.
    std::vector<std::vector<std::uint16_t>> common(was.size() + 1, std::vector<std::uint16_t>(is.size() + 1));
    for (std::size_t i = was.size(); i-- > 0;)
        for (std::size_t j = is.size(); j-- > 0;)
            common[i][j] = was[i] == is[j] ? static_cast<std::uint16_t>(common[i + 1][j + 1] + 1)
                                           : std::max(common[i + 1][j], common[i][j + 1]);
    std::size_t i = 0;
    std::size_t j = 0;
    while (i < was.size() || j < is.size()) {
        if (i < was.size() && j < is.size() && was[i] == is[j]) {
            ++i;
            ++j;
        } else if (j == is.size() || (i < was.size() && common[i + 1][j] >= common[i][j + 1])) {
            out.push_back("- " + was[i++]);
        } else {
            out.push_back("+ " + is[j++]);
        }
    }
    cut(out);
    return out;
}

FileAccount account_of(const Sides& sides, FileRole role, const ByteSource& before, const ByteSource& after) {
    FileAccount out;
    if (role == FileRole::Kernel) {
        const auto was = inspect_kernel(before);
        const auto is = inspect_kernel(after);
        if (was && is) out = {kernel_text(*was), kernel_text(*is), {}};
    } else if (role == FileRole::Ramdisk) {
        const auto was = inspect_ramdisk(before);
        const auto is = inspect_ramdisk(after);
        if (was && is) out = {ramdisk_text(*was), ramdisk_text(*is), ramdisk_details(*was, *is)};
    } else if (begins_with(before, "regf") && begins_with(after, "regf")) {
        auto was = store_lines(sides.before.machine, before);
        auto is = store_lines(sides.after.machine, after);
        if (!was || !is) {
            was = registry_lines(before);
            is = registry_lines(after);
        }
        if (was && is)
            out = {fmt::format("{} values", was->size()), fmt::format("{} values", is->size()), set_details(*was, *is)};
    } else if (const auto was = text_of(before), is = text_of(after); was && is) {
        const auto before_lines = split(*was);
        const auto after_lines = split(*is);
        out = {fmt::format("{} lines", before_lines.size()), fmt::format("{} lines", after_lines.size()),
               differing_lines(before_lines, after_lines)};
    }
    if (out.details.empty())
        if (auto where = first_other_byte(before, after); !where.empty()) out.details.push_back(std::move(where));
    return out;
}

std::vector<std::string> lines_of_short(const ByteSource& file, std::string_view sign) {
    constexpr std::uint64_t most_bytes = 2048;
    std::vector<std::string> out;
    const auto text = file.size() <= most_bytes ? text_of(file) : std::nullopt;
    if (!text) return out;
    for (auto& line : split(*text)) out.push_back(fmt::format("{} {}", sign, line));
    cut(out);
    return out;
}

}  // namespace herberge::remedy
