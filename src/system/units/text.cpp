// SPDX-License-Identifier: MIT
#include "system/units/text.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "system/units/names.hpp"

namespace herberge::units {

namespace {

constexpr std::string_view blanks = " \t\n\r";

std::string_view trimmed(std::string_view text) {
    const auto from = text.find_first_not_of(blanks);
    if (from == std::string_view::npos) return {};
    return text.substr(from, text.find_last_not_of(blanks) - from + 1);
}

class Parser {
public:
    Parser(UnitText& out, std::string place) : out_(out), place_(std::move(place)) {}

    /// One logical line; false: nothing behind it counts.
    bool line(std::string_view text, int number) {
        text = trimmed(text);
        if (text.empty()) return true;
        if (text.front() == '[') {
            if (text.back() != ']') {
                out_.bad_line = number;
                out_.bad_text = text;
                return false;
            }
            section_ = text.substr(1, text.size() - 2);
            return true;
        }
        const auto equals = text.find('=');
        if (section_.empty()) note(number, "it stands before any section");
        else if (equals == std::string_view::npos) note(number, "it has no =");
        else
            out_.settings.push_back({section_, std::string(trimmed(text.substr(0, equals))),
                                     std::string(trimmed(text.substr(equals + 1))), place_, number});
        return true;
    }

private:
    void note(int number, std::string_view why) {
        constexpr std::size_t most = 32;
        if (out_.notes.size() < most) out_.notes.push_back(fmt::format("{}, line {}: {}", place_, number, why));
    }

    UnitText& out_;
    std::string place_, section_;
};

}  // namespace

UnitText parse_unit(std::string_view text, const std::string& place) {
    UnitText out;
    Parser parser(out, place);
    std::string joined;
    bool goes_on = false;
    int begun = 0;
    int number = 0;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        if (line.ends_with('\r')) line.remove_suffix(1);
        // Remarks are passed over also in the midst of a line that goes on.
        const auto inner = line.substr(std::min(line.find_first_not_of(" \t"), line.size()));
        if (inner.starts_with('#') || inner.starts_with(';')) continue;
        if (!goes_on) begun = number;
        std::size_t backslashes = 0;
        while (backslashes < line.size() && line[line.size() - 1 - backslashes] == '\\') ++backslashes;
        const bool more = backslashes % 2 == 1;
        joined += line.substr(0, line.size() - (more ? 1 : 0));
        if (more) joined += ' ';
        goes_on = more;
        if (more) continue;
        if (!parser.line(joined, begun)) return out;
        joined.clear();
    }
    if (goes_on) parser.line(joined, begun);
    return out;
}

std::optional<std::string> expand_specifiers(std::string_view text, const SpecifierValues& values) {
    const auto parts = parts_of(values.name);
    if (!parts) return std::string(text);
    const std::string stem = values.name.substr(0, values.name.size() - parts->type.size());
    const auto last_part = parts->prefix.substr(parts->prefix.rfind('-') + 1);
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] != '%' || i + 1 == text.size()) {
            out += text[i];
            continue;
        }
        switch (text[++i]) {
            case '%': out += '%'; break;
            case 'n': out += values.name; break;
            case 'N': out += stem; break;
            case 'p': out += parts->prefix; break;
            case 'P': out += unescape(parts->prefix); break;
            case 'i': out += parts->instance.value_or(""); break;
            case 'I': out += unescape(parts->instance.value_or("")); break;
            case 'j': out += last_part; break;
            case 'J': out += unescape(last_part); break;
            case 'f': out += unescape_path(parts->is_instance() ? *parts->instance : parts->prefix); break;
            case 't': out += "/run"; break;
            case 'S': out += "/var/lib"; break;
            case 'C': out += "/var/cache"; break;
            case 'L': out += "/var/log"; break;
            case 'E': out += "/etc"; break;
            case 'T': out += "/tmp"; break;
            case 'V': out += "/var/tmp"; break;
            case 'd': out += "/run/credentials/" + values.name; break;
            case 'u':
            case 'g': out += "root"; break;
            case 'U':
            case 'G': out += "0"; break;
            case 'h': out += "/root"; break;
            case 's': out += "/bin/sh"; break;
            case 'm': out += values.machine_id; break;
            case 'H':
            case 'q': out += values.host_name; break;
            case 'l': out += values.host_name.substr(0, values.host_name.find('.')); break;
            case 'v': out += values.kernel_release; break;
            case 'o': out += values.os_id; break;
            case 'w': out += values.os_version; break;
            case 'y': out += values.fragment; break;
            case 'Y': out += values.fragment.substr(0, values.fragment.rfind('/')); break;
            // A percent sign before another letter that stands for nothing stays (shared/specifier.c).
            case 'a':
            case 'A':
            case 'b':
            case 'B':
            case 'c':
            case 'M':
            case 'r':
            case 'R':
            case 'W': return std::nullopt;
            default:
                out += '%';
                out += text[i];
                break;
        }
    }
    return out;
}

}  // namespace herberge::units
