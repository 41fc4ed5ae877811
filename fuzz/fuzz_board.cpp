// SPDX-License-Identifier: MIT
// What boards read: trees, images and environments by themselves; commands, an extlinux configuration and a file of
// variables as U-Boot meets them on a card. The first byte of the input says which.
#include <algorithm>
#include <cstdlib>
#include <string>

#include <herberge/herberge.hpp>

#include <herberge/flash.hpp>

#include "artifact/boot_image.hpp"
#include "artifact/image_signature.hpp"
#include "forge/board.hpp"
#include "loader/uboot/environment.hpp"
#include "loader/uboot/script.hpp"
#include "loader/uboot/uboot.hpp"
#include "sums.hpp"

namespace {

using namespace herberge;

void trees(const Source& source) {
    const auto tree = DeviceTree::open(*source);
    if (tree) {
        std::size_t seen = 0;
        for (const int node : tree->children(tree->node("/")))
            if (++seen < 100) (void)tree->texts(node, "compatible");
    }
    const auto fit = Fit::open(source);
    if (!fit) return;
    for (const auto& name : fit->images()) {
        const auto part = fit->image(name);
        if (part && part->data_there && (part->offset > source->size() || part->length > source->size() - part->offset))
            std::abort();
    }
    (void)fit->best_match({"almhof,weather-station", "almhof,any"});
    ImageKeys keys;
    keys.keys = {{"key-inn", "sha256,rsa2048", "conf", std::vector<std::uint8_t>(256, 0xA5), 65537},
                 {"key-inn", "sha256,rsa2048", "image", std::vector<std::uint8_t>(256, 0xA5), 65537}};
    for (const auto& one : fit->configurations()) (void)check_configuration(*fit, one.name, keys);
    for (const auto& name : fit->images())
        if (const auto part = fit->image(name)) (void)check_image(*fit, *part, keys);
    (void)find_image_keys(*source);
}

/// The input holds two trees: the second begins where the first one's header says that it ends.
void overlays(const Source& source) {
    const auto base = DeviceTree::open(*source);
    const auto above = base ? DeviceTree::open(*source, base->size()) : tl::unexpected(base.error());
    if (!above) return;
    for (const std::uint64_t room : {0U, 64U, 4096U})
        if (const auto laid = base->with_overlay(*above, room)) (void)laid->texts(laid->node("/"), "compatible");
}

void parts_within(const ByteSource& source, std::initializer_list<std::pair<std::uint64_t, std::uint64_t>> parts) {
    for (const auto& [at, length] : parts)
        if (length != 0 && (at > source.size() || length > source.size() - at)) std::abort();
}
void android(const Source& source) {
    if (const auto image = inspect_android(*source))
        parts_within(*source, {image->kernel, image->ramdisk, image->second, image->tree});
    if (const auto image = inspect_android_vendor(*source)) parts_within(*source, {image->ramdisk, image->tree});
}

/// A dump of NAND flash with codes, as large as the input allows.
void nand(const Source& source) {
    constexpr std::uint64_t block = (512 + 16) * std::uint64_t{4};
    const auto dump = slice(source, 0, source->size() / block * block, "d1");
    if (const auto opened = open_nand(dump, {512, 16, 4})) (void)opened->content->bytes(0, opened->content->size());
}

void images(const Source& source) {
    const auto image = inspect_legacy_image(*source);
    if (image)
        for (const auto& [at, length] : image->parts)
            if (at > source->size() || length > source->size() - at) std::abort();
    (void)inspect_kernel(*source, KernelEntry::Protected);
}

void environments(const Source& source) {
    namespace uboot = loader::uboot;
    (void)uboot::read_stored(*source);
    (void)uboot::find_stored(*source);
    (void)uboot::find_built_in(*source, 0, source->size());
}

/// A card whose files have places that an input can be put in.
struct Card {
    static constexpr std::size_t room = 4096;
    std::vector<std::uint8_t> bytes;
    std::size_t at[3]{};  ///< of the script, the configuration, the file of variables

    Card() {
        forge::Tree files;
        const forge::Bytes marks[] = {forge::noise(room, 1), forge::noise(room, 2), forge::noise(room, 3)};
        files.file("/boot.cmd", marks[0]).file("/extlinux/extlinux.conf", marks[1]).file("/uboot.env", marks[2]);
        files.file("/Image", forge::make_arm64_image("6.1.0-almhof", 20000));
        files.file("/ramdisk", forge::noise(3000, 4)).file("/board.dtb", forge::make_device_tree({"", {}, {}}));
        forge::FatOptions fat;
        fat.size = 256U << 10U;
        auto volume = forge::make_fat(files, fat).bytes;
        const auto sectors = 64 + volume.size() / 512;
        forge::DiskSpec disk;
        disk.size = sectors * 512;
        disk.partitions = {{64, std::move(volume), 0x0C, true}};
        bytes = forge::make_disk(disk);
        for (std::size_t i = 0; i < 3; ++i) {
            const auto found = std::search(bytes.begin(), bytes.end(), marks[i].begin(), marks[i].end());
            if (found == bytes.end()) std::abort();
            at[i] = static_cast<std::size_t>(found - bytes.begin());
            std::fill_n(found, room, std::uint8_t{'\n'});
        }
    }
};

void cards(std::size_t kind, const std::uint8_t* data, std::size_t size) {
    static const Card card;
    auto bytes = card.bytes;
    std::copy_n(data, std::min(size, Card::room), bytes.begin() + static_cast<std::ptrdiff_t>(card.at[kind]));
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(std::move(bytes), "d1", 1), 1, "card.img"));
    loader::uboot::Start start;
    start.board = find_board("uboot-arm64");
    if (kind == 0)
        start.flash =
            memory_source(forge::make_uboot_environment({{"bootcmd",
                                                          "load mmc 0:1 0x100000 boot.cmd; env import -t 0x100000 800; "
                                                          "source 0x100000; run more"}},
                                                        8192),
                          "flash", 0);
    (void)loader::uboot::run(machine, start);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0 || size > 300'000) return 0;
    const std::vector<std::uint8_t> rest(data + 1, data + size);
    constexpr unsigned kinds = 10;
    switch (data[0] % kinds) {
        case 0: trees(memory_source(rest, "d1", 1)); break;
        case 1: images(memory_source(rest, "d1", 1)); break;
        case 2: environments(memory_source(rest, "d1", 1)); break;
        case 3: (void)loader::uboot::parse_script({reinterpret_cast<const char*>(data) + 1, size - 1}); break;
        case 4: overlays(memory_source(rest, "d1", 1)); break;
        case 5: android(memory_source(rest, "d1", 1)); break;
        case 6: nand(memory_source(rest, "d1", 1)); break;
        default: cards(data[0] % kinds - 7U, data + 1, size - 1); break;
    }
    return 0;
}

HERBERGE_MENDING_MUTATOR(Board, 1)
