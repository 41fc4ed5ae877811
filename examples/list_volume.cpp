// SPDX-License-Identifier: MIT
// Lists a directory of a volume in a disk image, links followed on the way there.
#include <cstdio>

#include <herberge/herberge.hpp>

int main(int argc, char** argv) {
    if (argc != 4) {
        std::fprintf(stderr, "usage: list_volume IMAGE VOLUME DIRECTORY   (list_volume desk.img d1p1 /boot)\n");
        return 2;
    }
    const auto image = herberge::open_image(argv[1], 1);
    if (!image) {
        std::fprintf(stderr, "%s\n", image.error().text().c_str());
        return 2;
    }
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(*image, 1, argv[1]));
    const auto volume = machine.at(argv[2]);
    if (volume == nullptr || volume->files(herberge::Observer::Analyst) == nullptr) {
        std::fprintf(stderr, "%s is no volume that can be listed\n", argv[2]);
        return 1;
    }
    const auto& files = *volume->files(herberge::Observer::Analyst);
    const auto directory = herberge::resolve(files, argv[3]);
    const auto names = directory ? files.list(directory->file.id) : tl::unexpected(directory.error());
    if (!names) {
        std::fprintf(stderr, "%s\n", names.error().text().c_str());
        return 1;
    }
    for (const auto& entry : *names) {
        const auto info = files.stat(entry.id);
        if (info)
            std::printf("%12llu  %s\n", static_cast<unsigned long long>(info->size),
                        herberge::printable(entry.name).c_str());
    }
    return 0;
}
