// SPDX-License-Identifier: MIT
// A tree of files of every shape, and whether a reader gives all of them back; for file systems that their own tools
// wrote.
#pragma once

#include <iostream>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include "support.hpp"

namespace support {

/// Files of every shape: empty, in a fragment, of several blocks with and without a rest, with holes, that do not
/// shrink.
inline forge::Tree shapes() {
    forge::Tree tree;
    Bytes text;
    for (int i = 0; text.size() < 400'000; ++i) {
        const auto line = forge::to_bytes("guest " + std::to_string(i * 7919 % 1000) + " slept well\n");
        text.insert(text.end(), line.begin(), line.end());
    }
    const auto part = [&](std::size_t size) {
        return Bytes(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(size));
    };
    tree.file("/empty", Bytes{}).file("/small.txt", part(100)).file("/one-block", part(131'072));
    tree.file("/blocks-and-rest", part(300'001)).file("/noise", forge::noise(150'000, 5), 0755);
    Bytes holed(700'000);
    std::ranges::copy(part(50'000), holed.begin() + 400'000);
    tree.file("/holed", holed);
    tree.link("/sbin/init", "../usr/lib/init").file("/usr/lib/init", "#!/bin/sh\n", 0755).directory("/var/empty");
    for (int i = 0; i < 700; ++i)
        tree.file("/many/a rather long name for room " + std::to_string(i), "key " + std::to_string(i));
    return tree;
}

inline void expect_all(const herberge::FileSystem& fs, const forge::Tree& tree) {
    for (const auto& [path, node] : tree.nodes()) {
        if (path == "/") continue;
        herberge::ResolveOptions options;
        options.follow_last = false;
        const auto found = herberge::resolve(fs, path, options);
        ASSERT_TRUE(found) << path << ": " << found.error().text();
        if (node.kind == forge::Node::Kind::Link) {
            EXPECT_EQ(found->file.type, herberge::FileType::Symlink) << path;
            EXPECT_EQ(fs.link_target(found->file.id).value_or("?"), node.target) << path;
        }
        if (node.kind == forge::Node::Kind::Directory)
            EXPECT_EQ(found->file.type, herberge::FileType::Directory) << path;
        if (node.kind != forge::Node::Kind::File) continue;
        EXPECT_EQ(found->file.size, node.content.size()) << path;
        EXPECT_EQ(found->file.permissions, node.mode) << path;
        const auto source = fs.open(found->file.id, path);
        ASSERT_TRUE(source) << path << ": " << source.error().text();
        const auto bytes = (*source)->bytes(0, (*source)->size());
        ASSERT_TRUE(bytes) << path << ": " << bytes.error().text();
        EXPECT_TRUE(*bytes == node.content) << path;
        if (node.content.size() > 200'000) {
            const auto part = (*source)->bytes(131'000, 200);  // across two blocks
            ASSERT_TRUE(part);
            EXPECT_TRUE(std::equal(part->begin(), part->end(), node.content.begin() + 131'000)) << path;
        }
    }
    const auto many = herberge::resolve(fs, "/many");
    const auto names = fs.list(many->file.id);
    ASSERT_TRUE(names);
    EXPECT_EQ(std::count_if(names->begin(), names->end(),
                            [](const herberge::DirEntry& e) { return e.name != "." && e.name != ".."; }),
              std::ranges::count_if(tree.nodes(), [](const auto& node) { return node.first.starts_with("/many/"); }));
    EXPECT_EQ(fs.lookup(many->file.id, "room 9").error().kind, herberge::ErrorKind::NotFound);
}

/// Writes the tree's files below a folder that exists.
inline void write_tree(const forge::Tree& tree, const std::string& folder) {
    for (const auto& [path, node] : tree.nodes()) {
        const std::string at = folder + path;
        if (node.kind == forge::Node::Kind::Directory) {
            std::filesystem::create_directories(at);
            continue;
        }
        std::filesystem::create_directories(std::filesystem::path(at).parent_path());
        if (node.kind == forge::Node::Kind::Link) {
            std::filesystem::create_symlink(node.target, at);
            continue;
        }
        if (node.kind != forge::Node::Kind::File) continue;
        // Runs of zeros are left out, so that they become holes where the file system knows them.
        std::ofstream out(at, std::ios::binary);
        constexpr std::size_t piece = 4096;
        for (std::size_t from = 0; from < node.content.size(); from += piece) {
            const auto length = std::min(piece, node.content.size() - from);
            const auto begin = node.content.begin() + static_cast<std::ptrdiff_t>(from);
            if (std::all_of(begin, begin + static_cast<std::ptrdiff_t>(length), [](auto b) { return b == 0; }))
                continue;
            out.seekp(static_cast<std::streamoff>(from));
            out.write(reinterpret_cast<const char*>(&*begin), static_cast<std::streamsize>(length));
        }
        out.close();
        std::filesystem::resize_file(at, node.content.size());
        std::filesystem::permissions(at, static_cast<std::filesystem::perms>(node.mode));
    }
}

/// While it lives, no other process on this machine has one.
class Turn {
public:
    Turn() : file_(::open("/tmp/herberge-test-turn", O_CREAT | O_RDWR | O_CLOEXEC, 0666)) {
        if (file_ < 0 || ::flock(file_, LOCK_EX) != 0) ADD_FAILURE() << "no lock in /tmp";
    }
    ~Turn() { ::close(file_); }
    Turn(const Turn&) = delete;
    Turn& operator=(const Turn&) = delete;

private:
    int file_;
};

/// Whether a command works; what keeps a test from running is told where it is skipped.
inline bool works(const std::string& command) {
    const auto ran = shell(command);
    if (ran.status != 0) std::cout << command << ": " << ran.out << '\n';
    return ran.status == 0;
}

/// A file system in a file of the folder that its own tool makes (`make`, the image's name behind it) and the kernel
/// fills: `tree` below `where`, which `before` may create and `then` change, both run in it. Empty: that cannot be done
/// here.
inline std::string filled_by_kernel(const Folder& folder, const std::string& make, const std::string& mount_options,
                                    const std::string& size, const forge::Tree& tree, const std::string& where = "",
                                    const std::string& before = "true", const std::string& then = "true") {
    const std::string image = folder.file("volume.img");
    const std::string mount = folder.file("mount");
    // Two of XFS or Btrfs that carry the same UUID are neither made nor mounted at a time: tests beside this one wait.
    const Turn turn;
    if (!works("truncate -s " + size + " " + image + " && " + make + " " + image)) return {};
    std::filesystem::create_directories(mount);
    if (!works("mount -o loop" + mount_options + " " + image + " " + mount)) return {};
    const auto inside = [&](const std::string& command) {
        const auto ran = shell("cd " + mount + " && " + command);
        EXPECT_EQ(ran.status, 0) << ran.out;
    };
    inside(before);
    write_tree(tree, mount + where);
    inside(then);
    EXPECT_EQ(shell("umount " + mount).status, 0);
    return image;
}

/// Loop devices of the system, which go away with the test.
class Loops {
public:
    explicit Loops(const std::vector<std::string>& files) {
        for (const auto& file : files) {
            const auto made = shell("losetup -f --show " + file);
            if (made.status != 0) continue;
            devices.push_back(made.out.substr(0, made.out.find('\n')));
        }
    }
    Loops(const Loops&) = delete;
    Loops& operator=(const Loops&) = delete;
    Loops(Loops&&) = delete;
    Loops& operator=(Loops&&) = delete;
    ~Loops() {
        for (const auto& device : devices) shell("losetup -d " + device);
    }
    std::vector<std::string> devices;
};

/// An image with changes laid over it.
struct Changed {
    std::shared_ptr<herberge::Overlay> layer;  ///< null: there is none
    explicit Changed(const std::string& path) {
        if (!path.empty()) layer = herberge::overlay(*herberge::open_image(path, 1));
    }
    [[nodiscard]] bool made() const { return layer != nullptr; }
    void set(std::uint64_t offset, unsigned value) const {
        const std::array<std::uint8_t, 1> byte = {static_cast<std::uint8_t>(value)};
        ASSERT_TRUE(layer->write(offset, byte));
    }
    void flip(std::uint64_t offset, unsigned mask) const { set(offset, (*layer->bytes(offset, 1))[0] ^ mask); }
    [[nodiscard]] herberge::Result<std::shared_ptr<const herberge::FileSystem>> open(
        herberge::Reader reader = herberge::Reader::Kernel) const {
        return herberge::open_file_system(herberge::slice(layer, 0, layer->size(), "d1p1"), reader);
    }
};

}  // namespace support
