// SPDX-License-Identifier: MIT
// SBAT: generations by which shim revokes whole families of loaders (shim's SBAT.md and sbat.c, 15.7).
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include <herberge/pe.hpp>
#include <herberge/signature.hpp>

#include "firmware/shim_variables.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_lines = 200;

std::string_view text_of(std::span<const std::uint8_t> bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

std::vector<std::uint8_t> section_of(const ByteSource& image, std::string_view name) {
    const auto pe = inspect_pe(image);
    return pe ? pe_section(image, *pe, name) : std::vector<std::uint8_t>();
}

}  // namespace

std::vector<SbatGeneration> parse_sbat(std::string_view text) {
    std::vector<SbatGeneration> out;
    text = text.substr(0, text.find('\0'));
    while (!text.empty() && out.size() < most_lines) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        const auto comma = line.find(',');
        if (comma == std::string_view::npos || comma == 0) continue;
        SbatGeneration one;
        one.component = printable(line.substr(0, comma));
        line.remove_prefix(comma + 1);
        const auto [stop, error] = std::from_chars(line.data(), line.data() + line.size(), one.generation);
        if (error != std::errc{}) continue;
        line.remove_prefix(static_cast<std::size_t>(stop - line.data()));
        if (line.starts_with(',')) one.rest = printable(line.substr(1));
        while (one.rest.ends_with('\r')) one.rest.pop_back();
        out.push_back(std::move(one));
    }
    return out;
}

std::vector<SbatGeneration> image_sbat(const ByteSource& image) {
    return parse_sbat(text_of(section_of(image, ".sbat")));
}

std::vector<SbatGeneration> sbat_policy(const ByteSource& shim, const UefiVariables& variables) {
    std::vector<SbatGeneration> out;
    for (const std::string_view name : {"SbatLevel", "SbatLevelRT"})
        if (const auto* level = variables.find(name, shim_guid); level != nullptr && out.empty())
            out = parse_sbat(text_of(level->data));
    // The section holds a version, then where two policies begin, counted from behind that version: the automatic one
    // and the latest one. The automatic one is installed unless the variable is newer.
    const auto bytes = section_of(shim, ".sbatlevel");
    const auto head = ondisk::from_bytes<ondisk::SbatLevelHead>(bytes);
    if (bytes.size() < sizeof(head)) return out;
    const std::size_t at = sizeof(head.version) + head.automatic_at;
    if (head.version != 0 || at >= bytes.size()) return out;
    auto embedded = parse_sbat(text_of(bytes).substr(at));
    // The first line carries the date: "sbat,1,2022052400".
    const auto date = [](const std::vector<SbatGeneration>& policy) {
        return policy.empty() ? std::string() : policy.front().rest;
    };
    if (date(embedded) > date(out)) return embedded;
    return out;
}

std::optional<std::string> sbat_refuses(const ByteSource& image, const std::vector<SbatGeneration>& policy,
                                        bool required) {
    if (policy.empty()) return std::nullopt;
    const auto own = image_sbat(image);
    if (own.empty())
        return required ? std::optional<std::string>("it has no SBAT section, and shim's policy wants one")
                        : std::nullopt;
    for (const auto& wanted : policy)
        for (const auto& component : own)
            if (component.component == wanted.component && component.generation < wanted.generation)
                return fmt::format("its SBAT generation of {} is {}, and the policy asks for {}", component.component,
                                   component.generation, wanted.generation);
    return std::nullopt;
}

}  // namespace herberge
