// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <cstdio>

#include "commands.hpp"
#include "inputs.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

Result<std::vector<std::uint8_t>> content_of(const std::string& path) {
    constexpr std::uint64_t most = std::uint64_t{1} << 30U;
    const auto file = open_image(path, 0);
    if (!file) return tl::unexpected(file.error());
    return (*file)->bytes(0, (*file)->size(), most);
}

/// What the options and the file of changes say; false: already complained.
bool read_suppositions(const Options& options, Supposition& out) {
    const auto add = [&](const std::string& line, const std::string& where) {
        const auto done = add_supposition(out, line, content_of);
        if (!done) complain(Exit::usage, printable(where + done.error().text()));
        return done.has_value();
    };
    for (const auto& line : options.supposed)
        if (!add(line, "")) return false;
    if (options.changes.empty()) return true;
    const auto text = input_text(options.changes);
    if (!text) return false;
    int number = 0;
    for (const auto& line : lines_of(*text))
        if (!add(line, fmt::format("{}:{}: ", options.changes, ++number))) return false;
    return true;
}

}  // namespace

int run_suppose(const Options& options) {
    Supposition what;
    if (!read_suppositions(options, what)) return Exit::usage;
    if (what.empty()) return complain(Exit::usage, "what is to be supposed? herberge suppose --help lists it");
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    if (const auto settled = settled_options(opened.machine, wanted); settled.firmware == FirmwareKind::Board)
        wanted = settled;
    const Verdict before = check(opened.machine, wanted);
    const auto supposed = suppose(opened.machine, what);
    if (!supposed) return complain(Exit::usage, printable(supposed.error().text()));
    wanted.at_menu = what.at_menu;
    if (!what.keys.empty()) {
        // The keys meet the menu that comes first as things would be.
        const auto menus = check(supposed->machine, wanted).menus;
        const auto choice = menus.empty()
                                ? tl::unexpected(Error{ErrorKind::NotFound, "no menu is on the way", {}, {}, {}})
                                : choice_by_keys(menus.front(), what.keys);
        if (!choice) return complain(Exit::usage, printable(choice.error().text()));
        wanted.at_menu = AtMenu{*choice, {}};
    }
    const Verdict after = check(supposed->machine, wanted);
    if (wanted.at_menu && !after.at_menu_taken)
        return complain(Exit::usage,
                        wanted.at_menu->choice.empty()
                            ? "no loader gets as far as its prompt"
                            : printable(fmt::format("no menu on the way has an entry “{}”", wanted.at_menu->choice)));
    const Terminal terminal;
    const auto turns = compare_verdicts(before, after);
    const std::string page = options.format == "json"
                                 ? suppose_json(what.lines(), supposed->machine, after, turns)
                                 : turns_text(what.lines(), turns, terminal) +
                                       check_text(supposed->machine, after, terminal, options.all_evidence);
    std::fwrite(page.data(), 1, page.size(), stdout);
    if (options.stats) opened.stats();
    if (after.all_start()) return Exit::all_start;
    return after.some_fail() || options.strict ? Exit::some_fail : Exit::cannot_tell;
}

}  // namespace tool
