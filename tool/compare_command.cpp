// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <cstdio>

#include "commands.hpp"
#include "inputs.hpp"
#include "page.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

void difference(Page& page, const Difference& one) {
    const Ink ink = one.kind == DifferenceKind::Added     ? Ink::Good
                    : one.kind == DifferenceKind::Removed ? Ink::Bad
                                                          : Ink::Warn;
    page.line(fmt::format("  {}  {}{}", pad(std::string(stage_id(one.stage)), 15),
                          page.terminal.ink(ink, pad(std::string(difference_id(one.kind)), 9)),
                          page.terminal.ink(Ink::Bold, fmt::format("{}{}{}", shown(one.place),
                                                                   one.place.empty() ? "" : "  ", shown(one.what)))));
    constexpr std::size_t indent = 28;
    if (!one.before.empty()) page.indented(indent, "was ", one.before);
    if (!one.after.empty()) page.indented(indent, "is  ", one.after);
    for (const auto& line : one.details) page.indented(indent + 2, "", line, Ink::Dim);
    if (one.decides)
        page.indented(indent, "→ ", "put back alone (on an overlay), every system fares as on the first machine",
                      Ink::Good);
}

std::string comparison_text(const Comparison& all, const Terminal& terminal) {
    Page page{terminal, {}};
    if (all.alike()) {
        page.line("Alike: nothing that a start looks at differs, and no verdict does.");
        return std::move(page.out);
    }
    page.out += turn_lines(all.systems, terminal);
    const auto list = [&](std::string_view head, bool explains) {
        bool any = false;
        for (const auto& one : all.differences) {
            if (one.explains != explains) continue;
            if (!any) {
                page.line();
                page.line(terminal.ink(Ink::Bold, head));
            }
            any = true;
            difference(page, one);
        }
    };
    list("What explains it", true);
    const bool some = std::ranges::any_of(all.differences, &Difference::explains);
    list(some ? "Also different on the way" : "What differs on the way", false);
    if (all.differences.empty()) page.line("\nNothing that could be compared differs.");
    return std::move(page.out);
}

std::string named(const std::vector<std::string>& images) {
    std::string out;
    for (const auto& one : images) out += (out.empty() ? "" : ", ") + printable(one);
    return out;
}

/// The second machine: its own images, or the first one under a patch.
bool open_second(const Options& options, const Inputs& first, Inputs& second, Machine& out) {
    if (options.patch.empty()) {
        Options other = options;
        other.images = options.with;
        if (!second.open(other)) return false;
        out = second.machine;
        return true;
    }
    const auto text = input_text(options.patch);
    if (!text) {
        second.status = complain(Exit::unreadable, fmt::format("{}: cannot be read", printable(options.patch)));
        return false;
    }
    Workshop shop(first.machine);
    const auto patch = read_patch(*text);
    const auto applied = patch ? shop.apply(*patch) : tl::unexpected(patch.error());
    if (!applied) {
        second.status = complain(Exit::unreadable, printable(applied.error().text()));
        return false;
    }
    out = shop.machine();
    return true;
}

}  // namespace

int run_compare(Options options) {
    // Two images and nothing else are two machines of one disk each.
    if (options.with.empty() && options.patch.empty() && options.images.size() == 2) {
        options.with = {options.images.back()};
        options.images.pop_back();
    }
    if (options.with.empty() == options.patch.empty())
        return complain(Exit::usage,
                        "what to compare with: a second image, --with for each disk of the second machine, or --patch");
    Inputs first;
    if (!first.open(options)) return first.status;
    Inputs second;
    Machine other;
    if (!open_second(options, first, second, other)) return second.status;
    CheckOptions before;
    CheckOptions after;
    if (const int problem = walk_options(options, before); problem != 0) return problem;
    Options second_options = options;
    if (!options.variables_with.empty()) second_options.variables = options.variables_with;
    if (const int problem = walk_options(second_options, after); problem != 0) return problem;
    const auto compared = compare_machines(first.machine, before, other, after);
    const Terminal terminal;
    const auto text =
        options.format == "json"
            ? comparison_json(compared)
            : terminal.ink(Ink::Dim, fmt::format("{}, beside {}", named(options.images),
                                                 options.patch.empty() ? named(options.with)
                                                                       : "the same with " + printable(options.patch))) +
                  "\n\n" + comparison_text(compared, terminal);
    std::fwrite(text.data(), 1, text.size(), stdout);
    if (options.stats) first.stats();
    return compared.alike() ? Exit::all_start : Exit::some_fail;
}

}  // namespace tool
