// SPDX-License-Identifier: MIT
#include "system/modprobe_rules.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <map>
#include <utility>

#include "system/config_text.hpp"
#include "system/drivers.hpp"

namespace herberge {

namespace {

constexpr std::array<std::string_view, 5> folders = {"etc/modprobe.d/", "run/modprobe.d/", "usr/local/lib/modprobe.d/",
                                                     "usr/lib/modprobe.d/", "lib/modprobe.d/"};

/// Which of the folders a file lies in, and its name there; npos: in none.
std::pair<std::size_t, std::string_view> located(std::string_view path) {
    path.remove_prefix(std::min(path.find_first_not_of("./"), path.size()));
    const auto* const folder = std::ranges::find_if(folders, [&](auto one) { return path.starts_with(one); });
    if (folder == folders.end()) return {std::string_view::npos, {}};
    const auto name = path.substr(folder->size());
    const bool counts = !name.starts_with('.') && name.find('/') == std::string_view::npos &&
                        (name.ends_with(".conf") || name.ends_with(".alias"));
    return {counts ? static_cast<std::size_t>(folder - folders.begin()) : std::string_view::npos, name};
}

}  // namespace

std::vector<ModprobeRule> modprobe_rules(const std::vector<std::pair<std::string, std::string_view>>& files) {
    std::map<std::string_view, std::pair<std::size_t, std::size_t>> counts;  // by name: the folder, and which file
    for (std::size_t i = 0; i < files.size(); ++i) {
        const auto [rank, name] = located(files[i].first);
        if (rank == std::string_view::npos) continue;
        const auto [at, fresh] = counts.try_emplace(name, rank, i);
        if (!fresh && rank < at->second.first) at->second = {rank, i};
    }
    std::vector<ModprobeRule> out;
    for (const auto& [name, which] : counts) {
        const auto& path = files[which.second].first;
        std::string whole;  // a line whose end is taken back by a backslash goes on
        int begun = 0;
        each_line(files[which.second].second, [&](int number, std::string_view line) {
            if (whole.empty()) begun = number;
            const bool goes_on = line.ends_with('\\');
            whole += line.substr(0, line.size() - (goes_on ? 1 : 0));
            if (goes_on) return;
            const auto words = blank_words(std::exchange(whole, {}));
            const bool listed = words.size() >= 2 && words[0] == "blacklist";
            const bool replaced = words.size() >= 3 && words[0] == "install" && drivers::loads_nothing(words[2]);
            if (listed || replaced) out.push_back({drivers::module_name(words[1]), replaced, path, begun});
        });
    }
    return out;
}

std::vector<ModprobeRule> modprobe_rules(const FileSystem& root) {
    constexpr std::uint64_t most = std::uint64_t{8} << 20U;
    std::vector<std::pair<std::string, std::string>> texts;
    for (const auto folder : folders) {
        const auto found = resolve(root, "/" + std::string(folder));
        const auto entries = found ? root.list(found->file.id) : fail(ErrorKind::NotFound, "none");
        if (!entries) continue;
        for (const auto& entry : *entries) {
            auto path = fmt::format("/{}{}", folder, entry.name);
            if (located(path).first == std::string_view::npos || entry.type == FileType::Directory) continue;
            auto text = read_text_file(root, path, most);
            texts.emplace_back(std::move(path), std::move(text).value_or(""));
        }
    }
    return modprobe_rules(std::vector<std::pair<std::string, std::string_view>>(texts.begin(), texts.end()));
}

std::vector<ModprobeRule> modprobe_rules(const Ramdisk& ramdisk) {
    std::vector<std::pair<std::string, std::string_view>> files;
    for (const auto& [path, file] : ramdisk.files) files.emplace_back(path, file.content);
    return modprobe_rules(files);
}

}  // namespace herberge
