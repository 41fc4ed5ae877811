// SPDX-License-Identifier: MIT
#include "system/windows_commands.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <cctype>

namespace herberge {

namespace {

bool has_drive(std::string_view path) {
    return path.size() >= 2 && path[1] == ':' && std::isalpha(static_cast<unsigned char>(path[0])) != 0;
}

std::string_view trimmed(std::string_view text) {
    while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
    while (!text.empty() && (text.back() == ' ' || text.back() == '\t')) text.remove_suffix(1);
    return text;
}

}  // namespace

WindowsCommands::WindowsCommands(const FileSystem& fs, std::string directory, char letter)
    : fs_(&fs), directory_(std::move(directory)), letter_(letter) {
    const std::string drive = std::string(1, letter) + ":";
    std::string root = drive + directory_;
    std::ranges::replace(root, '/', '\\');
    for (const auto& [name, value] : {std::pair<const char*, std::string>{"SystemRoot", root},
                                      {"windir", root},
                                      {"SystemDrive", drive},
                                      {"ProgramFiles", drive + "\\Program Files"},
                                      {"ProgramW6432", drive + "\\Program Files"},
                                      {"ProgramFiles(x86)", drive + "\\Program Files (x86)"},
                                      {"CommonProgramFiles", drive + "\\Program Files\\Common Files"},
                                      {"ProgramData", drive + "\\ProgramData"},
                                      {"ALLUSERSPROFILE", drive + "\\ProgramData"},
                                      {"PUBLIC", drive + "\\Users\\Public"},
                                      {"ComSpec", root + "\\System32\\cmd.exe"}})
        define(name, value);
}

void WindowsCommands::define(std::string_view name, std::string value) {
    variables_[lower_text(name)] = std::move(value);
}

std::string WindowsCommands::expanded(std::string_view text) const {
    std::string out;
    while (!text.empty()) {
        const auto begin = text.find('%');
        const auto end = begin == std::string_view::npos ? begin : text.find('%', begin + 1);
        if (end == std::string_view::npos) break;
        out += text.substr(0, begin);
        const auto known = variables_.find(lower_text(text.substr(begin + 1, end - begin - 1)));
        if (known == variables_.end()) {
            // What is no variable stays; its second sign may begin one.
            out += text.substr(begin, end - begin);
            text.remove_prefix(end);
            continue;
        }
        out += known->second;
        text.remove_prefix(end + 1);
    }
    return out += text;
}

std::string WindowsCommands::path_of(std::string_view windows_path, std::string_view base) const {
    std::string path(trimmed(windows_path));
    std::ranges::replace(path, '\\', '/');
    std::string_view rest(path);
    if (rest.starts_with("/?\?/")) rest.remove_prefix(4);
    constexpr std::string_view system_root = "/systemroot/";
    if (lower_text(rest).starts_with(system_root))
        return fmt::format("{}/{}", directory_, rest.substr(system_root.size()));
    if (has_drive(rest)) {
        if (std::toupper(static_cast<unsigned char>(rest[0])) != std::toupper(static_cast<unsigned char>(letter_)))
            return {};
        rest.remove_prefix(2);
        return rest.starts_with('/') ? std::string(rest) : fmt::format("/{}", rest);
    }
    if (rest.starts_with("//") || lower_text(rest).starts_with("/device/")) return {};  // a share, a device
    if (rest.starts_with('/')) return std::string(rest);
    return fmt::format("{}/{}", base.empty() ? directory_ : std::string(base), rest);
}

/// A program by its name: with ".exe" where it has no extension, in the system's folders where it has no path.
std::string WindowsCommands::found(std::string_view name) const {
    const std::string_view leaf = name.substr(std::min(name.find_last_of("\\/") + 1, name.size()));
    const bool extension = leaf.find('.') != std::string_view::npos;
    const bool bare = name.find_first_of("\\/:") == std::string_view::npos;
    std::vector<std::string> tries;
    if (bare)
        for (const char* folder : {"/System32", "", "/System32/wbem"})
            tries.push_back(path_of(name, directory_ + folder));
    else tries.push_back(path_of(name));
    for (const auto& path : tries) {
        if (path.empty()) continue;
        for (const char* ending : {"", ".exe"}) {
            if (*ending != '\0' && extension) continue;
            const auto file = resolve(*fs_, path + ending);
            if (file && file->file.type != FileType::Directory) return path + ending;
        }
    }
    return {};
}

WindowsProgram WindowsCommands::program_of(std::string_view command) const {
    const std::string whole = expanded(trimmed(command));
    std::string_view text(whole);
    WindowsProgram out;
    if (text.empty()) return out;
    if (text.front() == '"') {
        text.remove_prefix(1);
        const auto name = text.substr(0, text.find('"'));
        out.file = found(name);
        out.present = !out.file.empty();
        if (!out.present) out.file = path_of(name);
        return out;
    }
    // The shortest beginning that is a program.
    std::string wanted;  // what is told when none is: up to the first ".exe", or to the first blank
    for (std::size_t end = 0; end != std::string_view::npos && wanted.empty();) {
        end = text.find(' ', end + 1);
        const auto name = text.substr(0, end);
        if (lower_text(name).ends_with(".exe")) wanted = name;
    }
    if (wanted.empty()) wanted = text.substr(0, text.find(' '));
    for (std::size_t end = 0; end != std::string_view::npos;) {
        end = text.find(' ', end + 1);
        const auto name = text.substr(0, end);
        const auto file = found(name);
        if (file.empty()) continue;
        out.file = file;
        out.present = true;
        if (name.size() < wanted.size())
            out.note = fmt::format("without quotes: {} runs in place of {}", printable(file), printable(wanted));
        return out;
    }
    out.file = path_of(wanted);
    return out;
}

WindowsProgram WindowsCommands::program_at(std::string_view path) const {
    std::string name = expanded(trimmed(path));
    std::erase(name, '"');
    WindowsProgram out;
    out.file = found(name);
    out.present = !out.file.empty();
    if (!out.present) return program_of(path);
    return out;
}

}  // namespace herberge
