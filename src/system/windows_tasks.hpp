// SPDX-License-Identifier: MIT
// Scheduled tasks of Windows that a start or a logon sets off.
#pragma once

#include <string>
#include <vector>

#include <herberge/files.hpp>

namespace herberge {

struct WindowsTask {
    std::string name;     ///< "\\Almhof\\Ring the bell"
    std::string file;     ///< its description: "/Windows/System32/Tasks/…"
    std::string command;  ///< empty: it calls into a library that is registered
    std::string arguments;
    std::string account;  ///< as written; empty: not told
    bool at_start = false, at_logon = false;
    bool enabled = true;
    std::string problem;  ///< why it cannot be read; empty: it is
};

/// Those below `directory`/System32/Tasks (MS-TSCH 2.5), by name; each once for each of its programs.
[[nodiscard]] std::vector<WindowsTask> windows_tasks(const FileSystem& fs, const std::string& directory);

}  // namespace herberge
