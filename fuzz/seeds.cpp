// SPDX-License-Identifier: MIT
// Writes a few good inputs for each fuzz target below a folder.
#include <cstdio>
#include <filesystem>

#include "demo_disks.hpp"

int main(int argc, char** argv) {
    if (argc != 2) return 2;
    const std::filesystem::path top = argv[1];
    auto write = [&](const char* target, const char* name, const forge::Bytes& bytes) {
        std::filesystem::create_directories(top / target);
        return forge::write_sparse(top / target / name, bytes);
    };
    forge::Tree tree;
    tree.file("/etc/a", "text").file("/b", forge::noise(9000, 1)).link("/l", "etc/a");
    forge::ExtOptions options;
    options.size = 600U << 10U;
    options.journal = false;
    bool good = write("ext", "ext4", forge::make_ext(tree, options));
    options.extents = false;
    options.metadata_csum = false;
    good = write("ext", "ext2", forge::make_ext(tree, options)) && good;
    auto d = demo::front_desk();
    good = write("script", "desk", d.root.at("/boot/grub/grub.cfg").content) && good;
    good = write("ramdisk", "gzip", forge::gzip(forge::make_cpio(tree))) && good;
    good = write("ramdisk", "plain", forge::make_cpio(tree)) && good;
    auto kernel = forge::make_kernel({.payload_size = 5000});
    kernel.insert(kernel.begin(), 0);
    good = write("kernel", "kernel", kernel) && good;
    auto disk = d.build();
    disk.resize(20U << 10U);
    good = write("rehearsal", "desk", disk) && good;
    auto plain = forge::make_plain_boot();
    plain.resize(446);
    good = write("rehearsal", "plain", plain) && good;
    disk = d.build();
    disk.resize(200U << 10U);
    disk.insert(disk.begin(), 2);
    good = write("kernel", "disk", disk) && good;
    return good ? 0 : 1;
}
