// SPDX-License-Identifier: MIT
#include "terminal.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <algorithm>
#include <cstdio>
#include <cstdlib>

namespace tool {

Terminal::Terminal() {
    const bool tty = ::isatty(STDOUT_FILENO) != 0;
    const char* no_colour = std::getenv("NO_COLOR");
    const char* term = std::getenv("TERM");
    colour_ =
        tty && (no_colour == nullptr || *no_colour == '\0') && term != nullptr && std::string_view(term) != "dumb";
    winsize size{};
    if (tty && ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40)
        width_ = std::min<std::size_t>(size.ws_col, 140);
}

std::string Terminal::ink(Ink ink, std::string_view text) const {
    if (!colour_ || ink == Ink::Plain || text.empty()) return std::string(text);
    std::string_view code;
    switch (ink) {
        case Ink::Bold: code = "1"; break;
        case Ink::Dim: code = "2"; break;
        case Ink::Good: code = "32"; break;
        case Ink::Bad: code = "1;31"; break;
        case Ink::Warn: code = "33"; break;
        case Ink::Blue: code = "36"; break;
        case Ink::Plain: break;
    }
    return fmt::format("\x1b[{}m{}\x1b[0m", code, text);
}

std::size_t columns(std::string_view text) {
    return static_cast<std::size_t>(
        std::ranges::count_if(text, [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80; }));
}

std::string pad(std::string text, std::size_t width) {
    const std::size_t used = columns(text);
    if (used < width) text.append(width - used, ' ');
    return text;
}

std::vector<std::string> wrap(std::string_view text, std::size_t width) {
    std::vector<std::string> out;
    std::string line;
    std::size_t at = 0;
    while (at < text.size()) {
        const auto end = std::min(text.find(' ', at), text.size());
        const auto word = text.substr(at, end - at);
        if (!line.empty() && columns(line) + 1 + columns(word) > width) {
            out.push_back(line);
            line.clear();
        }
        if (!line.empty()) line += ' ';
        line += word;
        at = end + 1;
    }
    if (!line.empty() || out.empty()) out.push_back(line);
    return out;
}

void print(const std::string& text) { std::fwrite(text.data(), 1, text.size(), stdout); }

}  // namespace tool
