// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <cstdio>

#include "commands.hpp"
#include "inputs.hpp"
#include "output_file.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

/// The first proposal, or the one that was asked for; null: there is none.
const Proposal* chosen(const std::vector<Mending>& mendings, int number) {
    int so_far = 0;
    for (const auto& mending : mendings)
        for (const auto& proposal : mending.proposals)
            if (++so_far == number) return &proposal;
    return nullptr;
}

int write_text(const std::string& path, const std::string& text, bool replace) {
    OutputFile file;
    if (const auto problem = file.open(path, replace); !problem.empty()) return complain(Exit::usage, problem);
    if (!file.write({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}) || !file.keep())
        return complain(Exit::unreadable, fmt::format("{} could not be written", printable(path)));
    return Exit::all_start;
}

/// The firmware's flash image with a proposal's variables.
int write_variables(const Options& options, const Proposal* proposal) {
    if (proposal == nullptr) return complain(Exit::some_fail, fmt::format("there is no proposal {}", options.proposal));
    if (proposal->variables.empty())
        return complain(Exit::some_fail, fmt::format("proposal {} changes no variable", options.proposal));
    const auto file = open_image(options.variables, 0);
    if (!file) return complain(Exit::unreadable, printable(file.error().text()));
    const auto flash = (*file)->bytes(0, (*file)->size(), std::uint64_t{64} << 20U);
    const auto changed = flash ? with_variables(*flash, proposal->variables) : tl::unexpected(flash.error());
    if (!changed) return complain(Exit::unreadable, printable(changed.error().text()));
    return write_text(options.variables_to, {changed->begin(), changed->end()}, options.replace);
}

}  // namespace

int run_mend(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    const Verdict verdict = check(opened.machine, wanted);
    const auto mendings = mend(opened.machine, verdict, wanted);
    const Terminal terminal;
    const bool to_output = options.patch_to == "-" || options.undo_to == "-" || options.steps_to == "-";
    if (!to_output) {
        const auto page = options.format == "json" ? mend_json(mendings) : mend_text(mendings, terminal);
        std::fwrite(page.data(), 1, page.size(), stdout);
    }
    if (options.stats) opened.stats();
    const bool wants_variables = !options.variables_to.empty();
    if (wants_variables)
        if (const int status = write_variables(options, chosen(mendings, options.proposal)); status != Exit::all_start)
            return status;
    const bool wants_file = !options.patch_to.empty() || !options.undo_to.empty() || !options.steps_to.empty();
    if (const Proposal* proposal = chosen(mendings, options.proposal); wants_file && proposal == nullptr)
        return complain(Exit::some_fail, fmt::format("there is no proposal {}", options.proposal));
    else if (wants_file && proposal->patch.empty() && (!options.patch_to.empty() || !options.undo_to.empty()))
        return complain(Exit::some_fail,
                        fmt::format("proposal {} changes no disk: --steps-to tells what to set", options.proposal));
    else if (wants_file) {
        const std::pair<const std::string&, std::string> files[] = {
            {options.patch_to, patch_json(proposal->patch)},
            {options.undo_to, patch_json(proposal->patch.undone())},
            {options.steps_to, steps_text(*proposal)}};
        for (const auto& [path, text] : files)
            if (!path.empty())
                if (const int status = write_text(path, text, options.replace); status != Exit::all_start)
                    return status;
    }
    const bool all = std::ranges::all_of(mendings, [](const Mending& one) { return !one.proposals.empty(); });
    return all ? Exit::all_start : Exit::some_fail;
}

}  // namespace tool
