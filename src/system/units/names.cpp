// SPDX-License-Identifier: MIT
#include "system/units/names.hpp"

#include <algorithm>
#include <array>

namespace herberge::units {

namespace {

constexpr std::array<std::string_view, 11> types = {".service", ".socket", ".target", ".device", ".mount", ".automount",
                                                    ".swap",    ".timer",  ".path",   ".slice",  ".scope"};
constexpr std::size_t most_name = 255;

bool is_letter(char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == ':' ||
           c == '.';
}

int digit(char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    return -1;
}

}  // namespace

std::string NameParts::name() const { return prefix + (instance ? "@" + *instance : std::string{}) + type; }
std::string NameParts::template_name() const { return prefix + "@" + type; }

std::optional<NameParts> parts_of(std::string_view name) {
    const auto dot = name.rfind('.');
    if (name.size() > most_name || dot == std::string_view::npos || dot == 0) return std::nullopt;
    NameParts out;
    out.type = name.substr(dot);
    if (std::ranges::find(types, out.type) == types.end()) return std::nullopt;
    const auto stem = name.substr(0, dot);
    for (const char c : stem)
        if (!is_letter(c) && c != '-' && c != '\\' && c != '@') return std::nullopt;
    const auto at = stem.find('@');
    if (at == 0) return std::nullopt;
    out.prefix = stem.substr(0, at);
    if (at != std::string_view::npos) out.instance = std::string(stem.substr(at + 1));
    return out;
}

std::string escape(std::string_view text) {
    constexpr std::string_view digits = "0123456789abcdef";
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '/') out += '-';
        else if (c == '-' || c == '\\' || !is_letter(c) || (i == 0 && c == '.')) {
            const auto byte = static_cast<unsigned char>(c);
            out += "\\x";
            out += digits[byte >> 4U];
            out += digits[byte & 15U];
        } else out += c;
    }
    return out;
}

std::string tidy_path(std::string_view path) {
    std::string out = path.starts_with('/') ? "/" : "";
    std::size_t at = 0;
    while (at < path.size()) {
        const auto end = std::min(path.find('/', at), path.size());
        const auto part = path.substr(at, end - at);
        at = end + 1;
        if (part.empty() || part == ".") continue;
        if (!out.empty() && !out.ends_with('/')) out += '/';
        out += part;
    }
    return out;
}

std::string parent_of(std::string_view path) {
    const auto slash = path.rfind('/');
    if (slash == std::string_view::npos) return {};
    return slash == 0 ? "/" : std::string(path.substr(0, slash));
}

std::string escape_path(std::string_view path) {
    const auto tidy = tidy_path(path);
    const auto inner = std::string_view(tidy).substr(tidy.starts_with('/') ? 1 : 0);
    return inner.empty() ? "-" : escape(inner);
}

std::string unescape(std::string_view text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '-') out += '/';
        else if (text[i] == '\\' && i + 3 < text.size() && text[i + 1] == 'x' && digit(text[i + 2]) >= 0 &&
                 digit(text[i + 3]) >= 0) {
            out += static_cast<char>(digit(text[i + 2]) * 16 + digit(text[i + 3]));
            i += 3;
        } else out += text[i];
    }
    return out;
}

std::string unescape_path(std::string_view text) { return text == "-" ? "/" : "/" + unescape(text); }

std::optional<std::vector<std::string>> quoted_words(std::string_view text) {
    std::vector<std::string> out;
    std::string word;
    bool inside = false;
    char quote = 0;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (quote != 0) {
            if (c == quote) quote = 0;
            else if (c == '\\' && i + 1 < text.size()) word += text[++i];
            else word += c;
            continue;
        }
        if (c == '"' || c == '\'') {
            quote = c;
            inside = true;
        } else if (c == ' ' || c == '\t' || c == '\n' || c == '\r') {
            if (inside) out.push_back(std::move(word));
            word.clear();
            inside = false;
        } else {
            // Names of units carry backslashes of their own: only a quote or a backslash behind one is taken off.
            if (c == '\\' && i + 1 < text.size() && (text[i + 1] == '\\' || text[i + 1] == '"' || text[i + 1] == '\''))
                word += text[++i];
            else word += c;
            inside = true;
        }
    }
    if (quote != 0) return std::nullopt;
    if (inside) out.push_back(std::move(word));
    return out;
}

}  // namespace herberge::units
