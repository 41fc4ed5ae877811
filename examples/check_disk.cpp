// SPDX-License-Identifier: MIT
// Checks one disk image and prints a line per system. Exit status 0: every system starts.
#include <cstdio>

#include <herberge/herberge.hpp>

int main(int argc, char** argv) {
    if (argc != 2) {
        std::fprintf(stderr, "usage: check_disk IMAGE\n");
        return 2;
    }
    const auto image = herberge::open_image(argv[1], 1);
    if (!image) {
        std::fprintf(stderr, "%s\n", image.error().text().c_str());
        return 2;
    }
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(*image, 1, argv[1]));
    herberge::assemble_layers(machine);  // arrays and logical volumes
    const auto verdict = herberge::check(machine);
    for (const auto& system : verdict.systems) {
        std::printf("%s on %s: ", system.name.c_str(), system.place.value_or("an unknown place").c_str());
        if (system.stops_at)
            std::printf("stops at %s, because %s\n", std::string(herberge::stage_id(*system.stops_at)).c_str(),
                        system.at(*system.stops_at).text.c_str());
        else std::printf("%s\n", system.starts == herberge::Starts::Yes ? "starts" : "cannot be told");
    }
    return verdict.all_start() ? 0 : 1;
}
