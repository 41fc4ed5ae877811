// SPDX-License-Identifier: MIT
#include <cstdio>
#include <iostream>

#include "commands.hpp"
#include "inputs.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

/// The text that was seen, from the options; none: already complained.
std::optional<std::string> seen_text(const Options& options) {
    std::string out;
    for (const auto& line : options.seen) out += line + "\n";
    if (options.seen_in.empty()) return out;
    if (options.seen_in == "-") {
        constexpr std::size_t most = 1U << 20U;
        std::string all;
        for (char buffer[4096]; std::cin.read(buffer, sizeof buffer) || std::cin.gcount() > 0;) {
            all.append(buffer, static_cast<std::size_t>(std::cin.gcount()));
            if (all.size() > 2 * most) all.erase(0, all.size() - most);
        }
        return out + all;
    }
    const auto text = input_text(options.seen_in);
    if (!text) return std::nullopt;
    return out + *text;
}

}  // namespace

int run_symptom(const Options& options) {
    const auto text = seen_text(options);
    if (!text) return Exit::unreadable;
    if (text->find_first_not_of(" \t\r\n") == std::string::npos)
        return complain(Exit::usage, "what was seen? --seen \"error: no such device\", or --seen-in FILE");
    auto reading = read_symptom(*text);
    if (!options.images.empty()) {
        Inputs opened;
        if (!opened.open(options)) return opened.status;
        CheckOptions wanted;
        if (const int problem = walk_options(options, wanted); problem != 0) return problem;
        weigh_by_image(reading, check(opened.machine, wanted));
        if (options.stats) opened.stats();
    }
    const Terminal terminal;
    const auto page = options.format == "json" ? symptom_json(reading) : symptom_text(reading, terminal);
    std::fwrite(page.data(), 1, page.size(), stdout);
    return reading.answers.empty() ? Exit::some_fail : Exit::all_start;
}

}  // namespace tool
