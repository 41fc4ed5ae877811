// SPDX-License-Identifier: MIT
// Command lines of Windows: which program the system takes out of them.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include <herberge/files.hpp>

namespace herberge {

/// The program of a command line.
struct WindowsProgram {
    std::string file;  ///< on the system's volume: "/Windows/explorer.exe"; empty: elsewhere, or not told
    bool present = false;
    std::string note;  ///< for people: what is odd about how it is found; empty: nothing
};

/// Reads command lines of one installation.
class WindowsCommands {
public:
    /// `directory`: "/Windows"; `letter`: of its volume, as the installation knows it.
    WindowsCommands(const FileSystem& fs, std::string directory, char letter);

    /// Further variables: "USERPROFILE" → "C:\\Users\\reto". Names compare without case.
    void define(std::string_view name, std::string value);

    /// With %NAME% replaced by what is known of it.
    [[nodiscard]] std::string expanded(std::string_view text) const;
    /// A path of Windows ("C:\\x", "\\SystemRoot\\x", "\\??\\C:\\x", "x" from `base` on) as one of the system's volume;
    /// empty: it lies on another one.
    [[nodiscard]] std::string path_of(std::string_view windows_path, std::string_view base = {}) const;
    /// The program of a command line as CreateProcess finds it: what is quoted, else the shortest beginning up to a
    /// blank that is a program; ".exe" is added where no extension stands.
    [[nodiscard]] WindowsProgram program_of(std::string_view command) const;
    /// The same where the whole text is a path, with or without quotes.
    [[nodiscard]] WindowsProgram program_at(std::string_view path) const;

private:
    [[nodiscard]] std::string found(std::string_view name) const;

    const FileSystem* fs_;
    std::string directory_;
    char letter_;
    std::map<std::string, std::string> variables_;  ///< names in lower case
};

}  // namespace herberge
