// SPDX-License-Identifier: MIT
// herberge startup: what each system starts.
#include <fmt/format.h>
#include <cstdio>

#include <herberge/herberge.hpp>

#include "commands.hpp"
#include "inputs.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

class Startup {
public:
    Startup(const Options& options, Inputs& opened) : options_(options), opened_(opened) {}

    int run() {
        if (options_.levels.size() > 2) return complain(Exit::usage, "--level is given at most twice");
        for (const auto& system : find_systems(opened_.machine)) {
            const bool levels = !options_.levels.empty() || options_.all_levels;
            if (system.kind == SystemKind::Windows && !levels) windows(system);
            if (system.kind == SystemKind::Recovery && !levels) recovery(system);
            if (system.kind == SystemKind::Linux && options_.start_mode.empty()) linux_system(system);
        }
        if (any_) return Exit::all_start;
        return told_ ? Exit::some_fail
                     : complain(Exit::some_fail, "no installed system whose start could be read is on these disks");
    }

private:
    void show(const std::string& page) {
        if (any_) print("\n");
        any_ = true;
        print(page);
    }
    void cannot(const InstalledSystem& system, const Error& error) {
        told_ = true;
        const auto where = system.volume->place + (system.directory.empty() ? "" : ":" + system.directory);
        complain(Exit::unreadable, printable(error.place == where || error.text().starts_with(where)
                                                 ? error.text()
                                                 : fmt::format("{}: {}", where, error.text())));
    }

    void windows(const InstalledSystem& system) {
        const auto items = windows_startup(system, start_mode_of(options_.start_mode).value_or(StartMode::Normal));
        if (!items) return cannot(system, items.error());
        const auto letters = windows_drive_letters(opened_.machine, system).value_or(std::vector<DriveLetter>{});
        show(options_.format == "json" ? startup_json(system, *items, letters)
                                       : startup_text(system, *items, letters, terminal_));
    }

    void recovery(const InstalledSystem& system) {
        const auto inside = windows_in_image(system);
        if (!inside) return cannot(system, inside.error());
        windows(*inside);
    }

    void linux_system(const InstalledSystem& system) {
        const CommandLine arguments(arguments_of(system));
        const bool json = options_.format == "json";
        if (options_.all_levels) {
            const auto table = linux_levels(system, arguments);
            if (!table) return cannot(system, table.error());
            return show(json ? run_levels_json(system, *table) : run_levels_text(system, *table, terminal_));
        }
        std::vector<LinuxStart> starts;
        for (std::size_t i = 0; i < std::max<std::size_t>(options_.levels.size(), 1); ++i) {
            auto start =
                linux_startup(opened_.machine, system, arguments, options_.levels.empty() ? "" : options_.levels[i]);
            if (!start) return cannot(system, start.error());
            starts.push_back(std::move(*start));
        }
        if (json)
            for (const auto& start : starts) show(linux_startup_json(system, start));
        else if (starts.size() == 2) show(start_difference_text(starts[0], starts[1], terminal_));
        else show(linux_startup_text(system, starts[0], terminal_));
    }

    /// What the loader would tell its kernel.
    std::string arguments_of(const InstalledSystem& system) {
        if (!verdict_) {
            CheckOptions wanted;
            wanted.rehearse = false;
            verdict_ = check(opened_.machine, wanted);
        }
        for (const auto& one : verdict_->systems)
            if (one.place == system.volume->place) return one.arguments;
        return {};
    }

    const Options& options_;
    Inputs& opened_;
    Terminal terminal_;
    std::optional<Verdict> verdict_;
    bool any_ = false, told_ = false;
};

}  // namespace

int run_startup(const Options& options) {
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    const int status = Startup(options, opened).run();
    if (options.stats) opened.stats();
    return status;
}

}  // namespace tool
