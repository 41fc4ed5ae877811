// SPDX-License-Identifier: MIT
// Which services of Windows the service control manager starts, in which order, and why one does not.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include <herberge/hive.hpp>
#include <herberge/startup.hpp>

#include "system/windows_commands.hpp"

namespace herberge {

/// What starts in safe mode: names of services, drivers and groups below Control\\SafeBoot.
class SafeList {
public:
    SafeList(const Hive& system, const std::string& control_set, StartMode mode);
    [[nodiscard]] bool there() const { return there_; }
    /// By its name, its file's name or its group; everything outside safe mode.
    [[nodiscard]] bool lists(const WindowsService& service) const;

private:
    bool safe_, there_ = false;
    std::set<std::string> names_;
};

/// A service that is to be started.
struct ServiceStart {
    const WindowsService* service = nullptr;
    WindowsProgram program;
    bool starts = true;
    std::string note, account;
};

class WindowsServices {
public:
    /// All live as long as this.
    WindowsServices(const WindowsRegistry& registry, const FileSystem& fs, const WindowsCommands& commands,
                    const SafeList& safe_list);
    /// The automatic ones by group, each after what it depends on, those that wait last.
    [[nodiscard]] std::vector<ServiceStart> in_order();

private:
    struct Judged {
        bool done = false, starts = true;
        std::string why;
    };
    const Judged& judge(const WindowsService& service, int depth);
    [[nodiscard]] std::string own_problem(const WindowsService& service) const;
    [[nodiscard]] std::string problem_below(const WindowsService& service, int depth);
    void put(const WindowsService& service, const std::string& because, int depth);
    [[nodiscard]] const WindowsService* find(std::string_view name) const;
    [[nodiscard]] WindowsProgram program_of(const WindowsService& service) const;

    const WindowsRegistry& registry_;
    const FileSystem& fs_;
    const WindowsCommands& commands_;
    const SafeList& safe_list_;
    std::map<std::string, const WindowsService*> by_name_;
    std::map<const WindowsService*, Judged> judged_;
    std::set<const WindowsService*> listed_;
    std::vector<ServiceStart> out_;
};

}  // namespace herberge
