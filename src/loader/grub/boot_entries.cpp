// SPDX-License-Identifier: MIT
// The command blscfg of distributions' GRUB: entries by the Boot Loader Specification become a menu.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <cctype>

#include "loader/grub/interpreter.hpp"
#include "loader/text.hpp"

namespace herberge::grub {

namespace {

constexpr std::size_t most_entries = 512;
constexpr std::uint64_t most_bytes = std::uint64_t{64} << 10U;

/// Versions as RPM compares them: runs of digits by value, of letters by spelling, digits above letters; "~" sorts
/// before the end.
int compare_versions(std::string_view a, std::string_view b) {
    const auto digit = [](char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; };
    const auto letter = [](char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0; };
    while (!a.empty() || !b.empty()) {
        while (!a.empty() && !digit(a[0]) && !letter(a[0]) && a[0] != '~') a.remove_prefix(1);
        while (!b.empty() && !digit(b[0]) && !letter(b[0]) && b[0] != '~') b.remove_prefix(1);
        const bool before_a = !a.empty() && a[0] == '~';
        const bool before_b = !b.empty() && b[0] == '~';
        if (before_a || before_b) {
            if (before_a != before_b) return before_a ? -1 : 1;
            a.remove_prefix(1);
            b.remove_prefix(1);
            continue;
        }
        if (a.empty() || b.empty()) break;
        const bool numbers = digit(a[0]);
        if (numbers != digit(b[0])) return numbers ? 1 : -1;
        std::size_t x = 0;
        std::size_t y = 0;
        while (x < a.size() && (numbers ? digit(a[x]) : letter(a[x]))) ++x;
        while (y < b.size() && (numbers ? digit(b[y]) : letter(b[y]))) ++y;
        auto one = a.substr(0, x);
        auto two = b.substr(0, y);
        if (numbers) {
            while (one.size() > 1 && one[0] == '0') one.remove_prefix(1);
            while (two.size() > 1 && two[0] == '0') two.remove_prefix(1);
            if (one.size() != two.size()) return one.size() < two.size() ? -1 : 1;
        }
        if (const int order = one.compare(two); order != 0) return order;
        a.remove_prefix(x);
        b.remove_prefix(y);
    }
    return a.empty() == b.empty() ? 0 : a.empty() ? -1 : 1;
}

/// What one file says, as the lines of a script.
struct Told {
    std::string title, body;
    int line = 1;  ///< of the kernel
    bool users = false;
};

Told read_entry(std::string_view text) {
    Told out;
    std::string kernel;
    std::vector<std::string> options, ramdisks;
    std::string tree;
    loader::each_pair(text, [&](std::string_view key, std::string_view told, int number) {
        const std::string value(told);
        if (key == "title") out.title = value;
        else if (key == "linux") {
            kernel = value;
            out.line = number;
        } else if (key == "initrd") ramdisks.push_back(value);
        else if (key == "options") options.push_back(value);
        else if (key == "devicetree") tree = value;
        else if (key == "grub_users") out.users = !value.empty();
    });
    if (kernel.empty()) return out;
    out.body = fmt::format("linux {} {}\n", kernel, fmt::join(options, " "));
    if (!ramdisks.empty()) out.body += fmt::format("initrd {}\n", fmt::join(ramdisks, " "));
    if (!tree.empty()) out.body += fmt::format("devicetree {}\n", tree);
    return out;
}

}  // namespace

int Interpreter::cmd_blscfg(const Arguments& /*a*/, const Command& /*c*/) {
    const std::string device_name = !variable("boot").empty() ? variable("boot") : variable("root");
    std::string folder = variable("blsdir");
    if (folder.empty()) folder = "/loader/entries";
    const auto device = world_.device(device_name, context_.modules);
    if (!device) return error(world_.no_device(device_name, context_.modules));
    if (!device->unread.empty()) {
        context_.unread = device->unread;
        return 0;
    }
    const VolumeRef volume = world_.volume_of(*device);
    const auto* fs = volume != nullptr ? volume->files(Observer::Grub) : nullptr;
    if (fs == nullptr) {
        if (volume != nullptr && volume->unread()) context_.unread = fmt::format("{} is not read here", volume->place);
        return error("unknown filesystem.");
    }
    const auto found = resolve(*fs, folder);
    const auto names = found ? fs->list(found->file.id) : tl::unexpected(found.error());
    if (!names) {
        // An empty menu is what a person sees; sectors that cannot be read tell nothing about it.
        if (names.error().lack() != Lack::Absent) context_.unread = names.error().text();
        return 0;
    }
    std::vector<std::string> files;
    for (const auto& name : *names)
        if (name.name.ends_with(".conf") && files.size() < most_entries) files.push_back(name.name);
    std::ranges::sort(files, [](const std::string& a, const std::string& b) {
        const int order = compare_versions(a, b);
        return order != 0 ? order > 0 : a > b;
    });
    for (const auto& name : files) {
        const std::string path = fmt::format("{}/{}", folder, name);
        const auto text = read_text_file(*fs, path, most_bytes);
        if (!text) {
            context_.messages.push_back({text.error().what, fmt::format("{}:{}", volume->place, path), 0});
            continue;
        }
        const auto told = read_entry(*text);
        if (told.body.empty()) continue;
        Definition definition;
        auto& entry = definition.entry;
        entry.id = name.substr(0, name.size() - std::string_view(".conf").size());
        entry.title = told.title.empty() ? entry.id : told.title;
        entry.place = fmt::format("{}:{}", volume->place, path);
        entry.line = told.line;
        entry.index = static_cast<int>(context_.menu.size());
        entry.restricted = told.users && !variable("superusers").empty();
        Block body;
        Lines lines(told.body);
        while (const auto line = lines.next()) {
            auto parsed = parse(*line, lines);
            body.insert(body.end(), parsed.commands.begin(), parsed.commands.end());
        }
        definition.body = std::make_shared<const Block>(std::move(body));
        definition.arguments = {entry.title};
        context_.menu.push_back(std::move(definition));
    }
    return 0;
}

}  // namespace herberge::grub
