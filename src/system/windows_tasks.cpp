// SPDX-License-Identifier: MIT
#include "system/windows_tasks.hpp"

#include <algorithm>
#include <pugixml.hpp>

namespace herberge {

namespace {

constexpr std::size_t most_tasks = 5000;
constexpr std::uint64_t most_text = 1U << 20U;
constexpr int most_folder_depth = 16;

bool enabled(const pugi::xml_node& node) { return std::string_view(node.child_value("Enabled")) != "false"; }

bool triggered(const pugi::xml_node& task, const char* kind) {
    const auto triggers = task.child("Triggers").children(kind);
    return std::any_of(triggers.begin(), triggers.end(), enabled);
}

void read_task(const FileSystem& fs, FileId file, const std::string& path, const std::string& name,
               std::vector<WindowsTask>& out) {
    WindowsTask task;
    task.name = name;
    task.file = path;
    const auto source = fs.open(file, path);
    const auto bytes = source ? (*source)->bytes(0, (*source)->size(), most_text) : tl::unexpected(source.error());
    pugi::xml_document text;
    if (!bytes) task.problem = bytes.error().what;
    else if (!text.load_buffer(bytes->data(), bytes->size())) task.problem = "it is no description of a task";
    if (!task.problem.empty()) {
        out.push_back(std::move(task));
        return;
    }
    const auto root = text.child("Task");
    task.at_start = triggered(root, "BootTrigger");
    task.at_logon = triggered(root, "LogonTrigger");
    if (!task.at_start && !task.at_logon) return;
    task.enabled = enabled(root.child("Settings"));
    const auto principal = root.child("Principals").child("Principal");
    task.account =
        printable(principal.child("UserId") ? principal.child_value("UserId") : principal.child_value("GroupId"));
    bool any = false;
    for (const auto action : root.child("Actions").children()) {
        const std::string_view kind(action.name());
        if (kind != "Exec" && kind != "ComHandler") continue;
        any = true;
        task.command = action.child_value("Command");
        task.arguments = action.child_value("Arguments");
        out.push_back(task);
    }
    if (any) return;
    task.problem = "it has no program";
    out.push_back(std::move(task));
}

}  // namespace

std::vector<WindowsTask> windows_tasks(const FileSystem& fs, const std::string& directory) {
    std::vector<WindowsTask> out;
    struct Folder {
        FileId id;
        std::string path, name;
        int depth;
    };
    std::vector<Folder> pending;
    const std::string top = directory + "/System32/Tasks";
    if (const auto found = resolve(fs, top); found && found->file.type == FileType::Directory)
        pending.push_back({found->file.id, top, "", 0});
    std::size_t looked = 0;
    while (!pending.empty()) {
        const Folder folder = std::move(pending.back());
        pending.pop_back();
        const auto names = fs.list(folder.id);
        if (!names) continue;
        for (const auto& entry : *names) {
            if (entry.name == "." || entry.name == ".." || ++looked > most_tasks) continue;
            const std::string path = folder.path + "/" + entry.name, name = folder.name + "\\" + entry.name;
            if (entry.type == FileType::Directory) {
                if (folder.depth < most_folder_depth) pending.push_back({entry.id, path, name, folder.depth + 1});
            } else {
                read_task(fs, entry.id, path, name, out);
            }
        }
    }
    std::ranges::stable_sort(out, {}, [](const WindowsTask& task) { return lower_text(task.name); });
    return out;
}

}  // namespace herberge
