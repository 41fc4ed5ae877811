// SPDX-License-Identifier: MIT
// What a start of systemd would make of a root: IMAGE (a file system), TARGET, the kernel's arguments, further disks;
// prints a line for each unit ("unit NAME STATE"), each tie ("tie NAME KIND OTHER"), each job ("job NAME"), each cycle
// ("cycle NAMES…") why nothing starts ("refused TEXT"), and the verdict ("services STATE TEXT").
#include <cstdlib>
#include <fstream>
#include <iostream>
#include <iterator>

#include <herberge/herberge.hpp>

int main(int count, char** arguments) {
    if (count < 3) return 2;
    const auto image = herberge::open_image(arguments[1], 1);
    if (!image) return 3;
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(*image, 1, arguments[1]));
    for (int i = 4; i < count; ++i) {
        const auto more = herberge::open_image(arguments[i], i - 2);
        if (!more) return 3;
        machine.disks.push_back(herberge::inspect_disk(*more, i - 2, arguments[i]));
    }
    const auto volume = machine.volume(1, machine.disks.front().table.kind == herberge::TableKind::Gpt ? 1 : 0);
    if (volume == nullptr || volume->files(herberge::Observer::Linux) == nullptr) return 3;
    const herberge::CommandLine line(count > 3 ? arguments[3] : "");
    herberge::UnitStore units(*volume, line, &machine);
    // What the verdict says of the stage of services.
    auto init = herberge::judge_init(*volume, line, nullptr);
    // A kernel whose RAM disk loads the root's own drivers and leaves nothing behind: all else must lie on the root.
    herberge::RootDemand demand;
    if (const char* config = std::getenv("HERBERGE_KERNEL_CONFIG")) {
        std::ifstream file(config);
        demand.config.assign(std::istreambuf_iterator<char>(file), {});
        const std::string path(config);
        demand.kernel_release = path.substr(path.find("config-") + 7);
        demand.file_system = volume->info.format;
        init.kernel_release = demand.kernel_release;
        const auto& fs = *volume->files(herberge::Observer::Linux);
        const bool no_modules = !herberge::resolve(fs, "/lib/modules");
        const auto or_nothing = [no_modules](herberge::DriverAnswer told) {
            if (!told.there && no_modules) told.there = false;
            return told;
        };
        init.has_module = [&demand, &fs, or_nothing](std::string_view module, std::string_view option) {
            return or_nothing(herberge::root_has_module(fs, demand, module, option));
        };
        init.has_driver = [&demand, &fs, or_nothing](herberge::Format format, std::string_view options) {
            return or_nothing(herberge::root_has_driver(fs, demand, format, options));
        };
    }
    const auto services = herberge::judge_services(machine, *volume, init, line);
    std::cout << "services " << herberge::state_id(services.state) << ' ' << services.text << '\n';
    const auto plan = herberge::plan_boot(units, arguments[2]);
    for (const auto* unit : units.all()) {
        std::cout << "unit " << unit->name << ' ' << herberge::unit_load_id(unit->load) << '\n';
        if (unit->problem) std::cout << "problem " << unit->name << ' ' << unit->problem->text << '\n';
        for (const auto& tie : unit->ties)
            std::cout << "tie " << unit->name << ' ' << herberge::unit_tie_name(tie.tie) << ' ' << tie.unit << '\n';
    }
    for (const auto& job : plan.jobs)
        if (!job.verify) std::cout << "job " << job.unit << '\n';
    for (const auto& cycle : plan.cycles) {
        std::cout << "cycle";
        for (const auto& one : cycle.units) std::cout << ' ' << one;
        std::cout << '\n';
    }
    if (plan.refused) std::cout << "refused " << plan.refused->text << '\n';
    return 0;
}
