// SPDX-License-Identifier: MIT
// Lines of a start, with what each of their programs comes to.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/startup.hpp>

namespace herberge {

/// The names in a folder, sorted; none where it cannot be listed.
[[nodiscard]] std::vector<std::string> names_in(const FileSystem& fs, const std::string& folder);
/// The first word of a command, without the signs that inits put before it.
[[nodiscard]] std::string word_of(std::string_view command);

class Steps {
public:
    /// All live as long as this.
    Steps(const Volume& root, const InitChoice& init, LinuxStart& out)
        : root_(root), fs_(*root.files(Observer::Linux)), init_(init), out_(out) {}

    StartStep& add(std::string group, std::string name, const std::string& command, std::string because, Evidence said);
    /// The scripts of a run level's folder: 'S' start, 'K' stop. `list`: the file that names those that are run at all;
    /// empty: all are.
    void scripts(const std::string& group, const std::string& folder, char kind, const std::string& because,
                 const std::string& list = {});

private:
    const Volume& root_;
    const FileSystem& fs_;
    const InitChoice& init_;
    LinuxStart& out_;
};

}  // namespace herberge
