// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <optional>

#include <herberge/change.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge {

namespace {

using nlohmann::json;
using nlohmann::ordered_json;

constexpr std::string_view schema = "herberge/patch/1";
constexpr std::uint64_t most_bytes = std::uint64_t{1} << 30U;

Error wrong(std::string where, std::string expected, std::string found = {}) {
    return {ErrorKind::Malformed, "the patch cannot be used", std::move(where), std::move(expected), std::move(found)};
}

std::optional<std::vector<std::uint8_t>> bytes_of(const json& text) {
    if (!text.is_string()) return std::nullopt;
    const auto& digits = text.get_ref<const std::string&>();
    if (digits.size() % 2 != 0) return std::nullopt;
    const auto value = [](char c) -> int {
        if (c >= '0' && c <= '9') return c - '0';
        return c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
    };
    std::vector<std::uint8_t> out(digits.size() / 2);
    for (std::size_t i = 0; i < out.size(); ++i) {
        const int high = value(digits[2 * i]);
        const int low = value(digits[2 * i + 1]);
        if (high < 0 || low < 0) return std::nullopt;
        out[i] = static_cast<std::uint8_t>(high * 16 + low);
    }
    return out;
}

std::optional<std::uint64_t> number_of(const json& object, const char* key) {
    const auto found = object.find(key);
    if (found == object.end() || !found->is_number_unsigned()) return std::nullopt;
    return found->get<std::uint64_t>();
}

/// A disk's number; small, and not 0.
std::optional<int> disk_of(const json& object) {
    const auto number = number_of(object, "disk");
    if (!number || *number == 0 || *number > 10000) return std::nullopt;
    return static_cast<int>(*number);
}

Result<void> read_disks(const json& document, Patch& out) {
    const auto disks = document.find("disks");
    if (disks == document.end() || !disks->is_array()) return tl::unexpected(wrong("disks", "a list"));
    for (const auto& one : *disks) {
        const auto number = one.is_object() ? disk_of(one) : std::nullopt;
        const auto size = one.is_object() ? number_of(one, "size") : std::nullopt;
        if (!number || !size)
            return tl::unexpected(wrong(fmt::format("disks[{}]", out.disks.size()), "a disk's number and its size"));
        out.disks.push_back({*number, *size});
    }
    return {};
}

Result<void> read_changes(const json& document, Patch& out) {
    const auto changes = document.find("changes");
    if (changes == document.end() || !changes->is_array()) return tl::unexpected(wrong("changes", "a list"));
    std::uint64_t all = 0;
    for (const auto& one : *changes) {
        const std::string where = fmt::format("changes[{}]", out.changes.size());
        if (!one.is_object()) return tl::unexpected(wrong(where, "an object"));
        const auto disk = disk_of(one);
        const auto offset = number_of(one, "offset");
        const auto before = bytes_of(one.value("before", json()));
        const auto after = bytes_of(one.value("after", json()));
        if (!disk || !offset) return tl::unexpected(wrong(where, "a disk's number and an offset"));
        if (!before || !after) return tl::unexpected(wrong(where, "before and after in small hexadecimal digits"));
        if (before->size() != after->size() || before->empty())
            return tl::unexpected(wrong(where, "as many bytes after as before, and at least one",
                                        fmt::format("{} and {}", before->size(), after->size())));
        const bool named = std::ranges::any_of(out.disks, [&](const PatchedDisk& known) {
            return known.number == *disk && before->size() <= known.size && *offset <= known.size - before->size();
        });
        if (!named) return tl::unexpected(wrong(where, "bytes that lie on one of the disks that the patch names"));
        if (!out.changes.empty()) {
            const auto& last = out.changes.back();
            if (*disk < last.disk || (*disk == last.disk && *offset < last.offset + last.before.size()))
                return tl::unexpected(wrong(where, "a place behind the change before it"));
        }
        all += before->size();
        if (all > most_bytes) return fail(ErrorKind::TooLarge, "the patch changes more bytes than are taken", where);
        out.changes.push_back({*disk, *offset, *before, *after});
    }
    return {};
}

}  // namespace

std::string patch_json(const Patch& patch) {
    ordered_json out = {{"schema", schema}, {"title", report::clean(patch.title)}};
    out["steps"] = ordered_json::array();
    for (const auto& step : patch.steps) out["steps"].push_back(report::clean(step));
    out["disks"] = ordered_json::array();
    for (const auto& disk : patch.disks) out["disks"].push_back({{"disk", disk.number}, {"size", disk.size}});
    out["changes"] = ordered_json::array();
    for (const auto& change : patch.changes)
        out["changes"].push_back({{"disk", change.disk},
                                  {"offset", change.offset},
                                  {"before", hex(change.before, "")},
                                  {"after", hex(change.after, "")}});
    return out.dump(2) + "\n";
}

Result<Patch> read_patch(std::string_view text) {
    const json document = json::parse(text, nullptr, false);
    if (document.is_discarded())
        return fail(ErrorKind::Malformed, "the patch is no JSON document, or is cut short", "the patch");
    if (!document.is_object()) return tl::unexpected(wrong("the patch", "a JSON object"));
    const auto kind = document.find("schema");
    if (kind == document.end() || !kind->is_string()) return tl::unexpected(wrong("schema", std::string(schema)));
    if (kind->get_ref<const std::string&>() != schema)
        return fail(ErrorKind::Unsupported, "the patch is of another kind", "schema", std::string(schema),
                    kind->get<std::string>());
    Patch out;
    if (const auto title = document.find("title"); title != document.end() && title->is_string())
        out.title = title->get<std::string>();
    if (const auto steps = document.find("steps"); steps != document.end() && steps->is_array())
        for (const auto& step : *steps)
            if (step.is_string()) out.steps.push_back(step.get<std::string>());
    if (auto done = read_disks(document, out); !done) return tl::unexpected(done.error());
    if (auto done = read_changes(document, out); !done) return tl::unexpected(done.error());
    return out;
}

}  // namespace herberge
