// SPDX-License-Identifier: MIT
// Watches a folder of disk images and says of each new one whether it may go out. With --once: looks once, and the
// exit status tells whether all were accepted, for a build that must stop when its image would not boot.
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <map>
#include <string_view>
#include <thread>

#include <herberge/herberge.hpp>

namespace {

bool accepted(const std::string& path) {
    const auto image = herberge::open_image(path, 1);
    if (!image) return false;
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(*image, 1, path));
    herberge::assemble_layers(machine);  // arrays and logical volumes
    const auto verdict = herberge::check(machine);
    for (const auto& system : verdict.systems)
        if (system.stops_at) std::printf("  %s: %s\n", system.name.c_str(), system.at(*system.stops_at).text.c_str());
    return verdict.all_start();
}

}  // namespace

int main(int argc, char** argv) {
    const bool once = argc == 3 && std::string_view(argv[1]) == "--once";
    if (argc != 2 && !once) {
        std::fprintf(stderr, "usage: watch_images [--once] FOLDER\n");
        return 2;
    }
    std::map<std::string, std::filesystem::file_time_type> seen;
    bool all = true;
    do {
        for (const auto& entry : std::filesystem::directory_iterator(argv[argc - 1])) {
            const std::string path = entry.path().string();
            if (entry.path().extension() != ".img" || (seen.contains(path) && seen[path] == entry.last_write_time()))
                continue;
            seen[path] = entry.last_write_time();
            const bool good = accepted(path);
            all = all && good;
            std::printf("%s: %s\n", entry.path().filename().c_str(), good ? "accepted" : "refused");
            std::fflush(stdout);
        }
        if (!once) std::this_thread::sleep_for(std::chrono::seconds(1));
    } while (!once);
    return all ? 0 : 1;
}
