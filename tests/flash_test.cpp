// SPDX-License-Identifier: MIT
// Raw flash: UBI's volumes and UBIFS, from images that the systems' own makers write.
#include <fmt/format.h>

#include "storage/layers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;

namespace {

constexpr std::size_t block = 131072;    // an erase block
constexpr std::size_t logical = 126976;  // its content: two pages of 2 KiB are headers
constexpr std::size_t content_at = 4096;

std::uint32_t big32(const Bytes& bytes, std::size_t at) {
    return std::uint32_t{bytes[at]} << 24U | std::uint32_t{bytes[at + 1]} << 16U | std::uint32_t{bytes[at + 2]} << 8U |
           bytes[at + 3];
}
void put_big(Bytes& bytes, std::size_t at, std::uint64_t value, std::size_t size = 4) {
    for (std::size_t i = 0; i < size; ++i) bytes[at + i] = static_cast<std::uint8_t>(value >> (8 * (size - 1 - i)));
}
/// The sum that UBI and UBIFS keep: a CRC-32 that is not turned at its end.
std::uint32_t flash_crc(const Bytes& bytes, std::size_t at, std::size_t size) {
    return ~crc32(0, std::span(bytes).subspan(at, size));
}

/// What the folder holds that the makers pack.
const std::map<std::string, std::string>& files() {
    static const std::map<std::string, std::string> out = [] {
        std::map<std::string, std::string> all = {{"etc/hostname", "weather-station\n"}, {"empty", ""}};
        std::string large;
        for (int i = 0; i < 40000; ++i) large += fmt::format("gust {} of {}\n", i * 7919 % 1000, i);
        all["var/log/wind"] = large;
        for (int i = 0; i < 300; ++i) all[fmt::format("rooms/number {}", i)] = fmt::format("{}\n", i);
        return all;
    }();
    return out;
}

/// … as a folder, with a link.
void fill(const std::filesystem::path& top) {
    for (const auto& [name, content] : files()) {
        std::filesystem::create_directories((top / name).parent_path());
        std::ofstream(top / name, std::ios::binary) << content;
    }
    std::filesystem::create_symlink("../etc/hostname", top / "var/name");
}

/// An image of UBI with a volume of UBIFS and a static one; empty: mtd-utils are not here.
Bytes make_flash(const std::string& codec) {
    const Folder folder;
    const std::filesystem::path top = folder.file("top");
    fill(top);
    // A file with a hole.
    std::filesystem::resize_file(top / "empty", 1);
    std::ofstream(top / "holes", std::ios::binary).close();
    std::filesystem::resize_file(top / "holes", 50000);
    folder.write("tree", Bytes(5000, 0x5A));
    folder.write("list", forge::to_bytes(
                             "[root]\nmode=ubi\nimage=fs\nvol_id=0\nvol_type=dynamic\nvol_name=station\nvol_size=6MiB\n"
                             "[tree]\nmode=ubi\nimage=tree\nvol_id=3\nvol_type=static\nvol_name=tree\n"));
    const auto made = support::shell(fmt::format(
        "cd {} && mkfs.ubifs -x {} -m 2048 -e {} -c 100 -r top fs && ubinize -m 2048 -p 128KiB -o flash list",
        folder.file(""), codec, logical));
    return made.status == 0 ? support::file_bytes(folder.file("flash")) : Bytes{};
}

const Volume* volume_of(const Machine& machine, const std::string& place) {
    const auto found = std::ranges::find(machine.layered, place, [](const VolumeRef& v) { return v->place; });
    return found != machine.layered.end() ? found->get() : nullptr;
}

std::string text_of(const FileSystem& fs, const std::string& path) {
    const auto found = resolve(fs, path);
    if (!found) return "(" + found.error().what + ")";
    const auto source = fs.open(found->file.id, path);
    const auto text = source ? (*source)->text() : tl::unexpected(source.error());
    return text ? *text : "(" + text.error().what + ")";
}

class UbifsCodec : public testing::TestWithParam<const char*> {};

TEST_P(UbifsCodec, IsReadBackFileByFile) {
    const auto flash = make_flash(GetParam());
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const auto machine = support::machine_of(flash);
    const auto* volume = volume_of(machine, "ubi0/station");
    ASSERT_NE(volume, nullptr);
    EXPECT_EQ(volume->info.format, Format::Ubifs);
    EXPECT_EQ(volume->kind, NodeKind::FlashVolume);
    EXPECT_EQ(volume->names.linux_names, (std::vector<std::string>{"ubi0_0", "ubi0:station", "ubiblock0_0"}));
    const auto* fs = volume->files(Observer::Linux);
    ASSERT_NE(fs, nullptr) << volume->problem(Observer::Linux)->text();
    for (const auto& [name, content] : files())
        if (name != "empty") EXPECT_EQ(text_of(*fs, "/" + name), content) << name;
    EXPECT_EQ(text_of(*fs, "/var/name"), "weather-station\n") << "through the link";
    EXPECT_EQ(text_of(*fs, "/holes"), std::string(50000, '\0'));
    EXPECT_EQ(fs->list(resolve(*fs, "/rooms")->file.id)->size(), 300U);
    EXPECT_EQ(fs->lookup(fs->root(), "none").error().kind, ErrorKind::NotFound);
    EXPECT_EQ(fs->list(resolve(*fs, "/empty")->file.id).error().kind, ErrorKind::WrongType);
    EXPECT_EQ(resolve(*fs, "/etc/hostname")->file.size, 16U);
    EXPECT_FALSE(fs->unreplayed());
    // The other volume ends where its content does.
    const auto* tree = volume_of(machine, "ubi0/tree");
    ASSERT_NE(tree, nullptr);
    EXPECT_EQ(tree->source->size(), 5000U);
    EXPECT_EQ(*tree->source->bytes(0, 5000), Bytes(5000, 0x5A));
    EXPECT_EQ(tree->names.linux_names.front(), "ubi0_3");
}
INSTANTIATE_TEST_SUITE_P(Codecs, UbifsCodec, testing::Values("none", "lzo", "zlib", "zstd"));

/// Where a logical block of a volume lies in an image; none: nowhere.
std::optional<std::size_t> block_of(const Bytes& flash, std::uint32_t volume, std::uint32_t number) {
    for (std::size_t at = 0; at + block <= flash.size(); at += block)
        if (std::equal(flash.begin() + static_cast<std::ptrdiff_t>(at + 2048),
                       flash.begin() + static_cast<std::ptrdiff_t>(at + 2052), "UBI!") &&
            big32(flash, at + 2048 + 8) == volume && big32(flash, at + 2048 + 12) == number)
            return at;
    return std::nullopt;
}

TEST(Ubi, TheLaterOfTwoBlocksCountsUnlessItsCopyWasNotFinished) {
    auto flash = make_flash("none");
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const auto old = block_of(flash, 3, 0);
    ASSERT_TRUE(old);
    // A further block with the same number, a later sequence, another content.
    const std::size_t added = flash.size();
    flash.resize(added + block, 0xFF);
    std::copy_n(flash.begin() + static_cast<std::ptrdiff_t>(*old), block,
                flash.begin() + static_cast<std::ptrdiff_t>(added));
    const std::size_t head = added + 2048;
    put_big(flash, head + 40, 77, 8);
    std::fill_n(flash.begin() + static_cast<std::ptrdiff_t>(added + content_at), 5000, std::uint8_t{0x33});
    const auto first_byte = [&] {
        const auto machine = support::machine_of(flash);
        const auto* tree = volume_of(machine, "ubi0/tree");
        const auto byte = tree != nullptr ? tree->source->bytes(0, 1) : fail(ErrorKind::NotFound, "no volume");
        return byte ? int{byte->front()} : -1;
    };
    const auto seal = [&](bool copy, bool content_too) {
        flash[head + 6] = copy ? 1 : 0;
        put_big(flash, head + 32, content_too ? flash_crc(flash, added + content_at, 5000) : 0x12345678);
        put_big(flash, head + 60, flash_crc(flash, head, 60));
    };
    seal(false, true);
    EXPECT_EQ(first_byte(), 0x33);
    seal(true, true);
    EXPECT_EQ(first_byte(), 0x33) << "a copy that was finished";
    seal(true, false);
    EXPECT_EQ(first_byte(), 0x5A) << "a copy that was not";
    put_big(flash, head + 60, 0);
    EXPECT_EQ(first_byte(), 0x5A) << "a header that fails its CRC";
}

TEST(Ubi, BadAndErasedBlocksLieBetween) {
    const auto good = make_flash("lzo");
    if (good.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    Bytes flash(good.begin(), good.begin() + block);
    flash.insert(flash.end(), block, std::uint8_t{0x00});
    flash.insert(flash.end(), block, std::uint8_t{0xFF});
    flash.insert(flash.end(), good.begin() + block, good.end());
    const auto machine = support::machine_of(flash);
    const auto* volume = volume_of(machine, "ubi0/station");
    ASSERT_NE(volume, nullptr);
    ASSERT_NE(volume->files(Observer::Linux), nullptr);
    EXPECT_EQ(text_of(*volume->files(Observer::Linux), "/etc/hostname"), "weather-station\n");
}

TEST(Ubi, WithoutItsTableThereAreNoVolumes) {
    auto flash = make_flash("lzo");
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    constexpr std::uint32_t table = 0x7FFFEFFF;
    const auto one = block_of(flash, table, 0), two = block_of(flash, table, 1);
    ASSERT_TRUE(one && two);
    flash[*one + content_at + 20] ^= 1U;
    auto machine = support::machine_of(flash);
    EXPECT_NE(volume_of(machine, "ubi0/station"), nullptr) << "the second copy serves";
    flash[*two + content_at + 20] ^= 1U;
    machine = support::machine_of(flash);
    EXPECT_TRUE(machine.layered.empty());
    ASSERT_EQ(machine.layer_findings.size(), 1U);
    EXPECT_EQ(machine.layer_findings[0].code, Code::LayerMetadataDamaged);
    EXPECT_EQ(machine.layer_findings[0].text,
              "on d1: neither copy of UBI's table of volumes can be used: Linux does not attach it");
    // An update that was interrupted.
    flash = make_flash("lzo");
    for (const auto at : {*one, *two}) {
        flash[at + content_at + 13] = 1;
        put_big(flash, at + content_at + 168, flash_crc(flash, at + content_at, 168));
    }
    machine = support::machine_of(flash);
    const auto* volume = volume_of(machine, "ubi0/station");
    ASSERT_NE(volume, nullptr);
    ASSERT_TRUE(volume->not_assembled);
    EXPECT_EQ(volume->not_assembled->what, "an update of it was interrupted: Linux does not open it");
}

TEST(Ubifs, DamageIsToldWithItsPlace) {
    auto flash = make_flash("none");
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const auto masters = {block_of(flash, 0, 1), block_of(flash, 0, 2)};
    auto broken = flash;
    broken[**masters.begin() + content_at + 50] ^= 1U;
    {
        const auto machine = support::machine_of(broken);
        const auto* volume = volume_of(machine, "ubi0/station");
        ASSERT_NE(volume, nullptr);
        EXPECT_NE(volume->files(Observer::Linux), nullptr) << "the other copy serves";
    }
    broken[**std::next(masters.begin()) + content_at + 50] ^= 1U;
    const auto machine = support::machine_of(broken);
    const auto* volume = volume_of(machine, "ubi0/station");
    ASSERT_NE(volume, nullptr);
    ASSERT_TRUE(volume->problem(Observer::Linux));
    EXPECT_EQ(volume->problem(Observer::Linux)->what, "neither copy of the master node can be used");
    // A block of one file: the others are read all the same.
    const auto text = forge::to_bytes("gust 7 of");
    const auto words = forge::to_bytes("gust 0 of 0\n");
    const auto inside = std::search(flash.begin(), flash.end(), words.begin(), words.end());
    ASSERT_NE(inside, flash.end());
    *inside ^= 1U;
    const auto other = support::machine_of(flash);
    const auto* fs = volume_of(other, "ubi0/station")->files(Observer::Linux);
    ASSERT_NE(fs, nullptr);
    EXPECT_EQ(text_of(*fs, "/var/log/wind"), "(a node that fails its CRC)");
    EXPECT_EQ(text_of(*fs, "/etc/hostname"), "weather-station\n");
    (void)text;
}

/// A flash of mkfs.ubifs with a journal behind its last commit, written node by node.
class Journaled {
public:
    Journaled() : flash(make_flash("none")) {
        if (flash.empty()) return;
        log_ = *block_of(flash, 0, 3) + content_at;
        part_ = add_block(part_block);
        refer(part_block);
        auto at = flash.begin() + 56;
        do at = std::search(at + 1, flash.end(), hostname_.begin(), hostname_.end());
        while (forge::get32(flash, static_cast<std::size_t>(at - flash.begin()) - 56) != 0x06101831U);
        std::copy_n(at - 56 + 24, 8, key_of_hostname.begin());
        hostname_inode = forge::get32(flash, static_cast<std::size_t>(at - flash.begin()) - 56 + 40);
    }

    /// A block of the volume that no index names yet.
    std::size_t add_block(std::uint32_t number) {
        const auto at = flash.size();
        flash.resize(at + block, 0xFF);
        std::copy_n(flash.begin() + static_cast<std::ptrdiff_t>(*block_of(flash, 0, 3)), content_at,
                    flash.begin() + static_cast<std::ptrdiff_t>(at));
        put_big(flash, at + 2048 + 12, number);
        put_big(flash, at + 2048 + 40, 1000 + number, 8);
        put_big(flash, at + 2048 + 60, flash_crc(flash, at + 2048, 60));
        return at + content_at;
    }

    /// A node of this kind behind the last one; `body` follows its head.
    void node(std::uint8_t kind, const Bytes& body, std::uint8_t group = 0) {
        lay(part_ + used_, kind, body, group);
        used_ += (24 + body.size() + 7) / 8 * 8;
    }
    void refer(std::uint32_t number, std::uint32_t head = 1, std::uint64_t sequence = 0) {
        log_used_ += 2048;
        Bytes body(40);
        forge::put32(body, 0, number);
        forge::put32(body, 8, head);
        const auto before = sequence_;
        if (sequence != 0) sequence_ = sequence;
        lay(log_ + log_used_, 8, body, 0);
        if (sequence != 0) sequence_ = before;
        pad(log_ + log_used_ + 64, 2048 - 64);
    }

    void inode(std::uint32_t number, std::uint64_t size, std::uint32_t links = 1, std::uint8_t group = 0) {
        Bytes body(136);
        forge::put32(body, 0, number);
        forge::put64(body, 24, size);
        forge::put32(body, 68, links);
        forge::put32(body, 80, 0100644);
        node(0, body, group);
    }
    void data(std::uint32_t number, std::uint32_t of, std::string_view text) {
        Bytes body(24);
        forge::put32(body, 0, number);
        forge::put32(body, 4, 1U << 29U | of);
        forge::put32(body, 16, static_cast<std::uint32_t>(text.size()));
        body.insert(body.end(), text.begin(), text.end());
        node(1, body);
    }
    void name(const Bytes& key, std::uint32_t inode, const std::string& text, std::uint8_t group = 0) {
        Bytes body(32);
        std::ranges::copy(key, body.begin());
        forge::put32(body, 16, inode);
        forge::put16(body, 26, static_cast<std::uint16_t>(text.size()));
        body.insert(body.end(), text.begin(), text.end());
        body.push_back(0);
        node(2, body, group);
    }
    void cut(std::uint32_t number, std::uint64_t from, std::uint64_t to) {
        Bytes body(32);
        forge::put32(body, 0, number);
        forge::put64(body, 16, from);
        forge::put64(body, 24, to);
        node(4, body);
    }
    /// The master nodes say that it was not unmounted.
    void in_use() {
        for (const std::uint32_t copy : {1U, 2U})
            for (std::size_t at = *block_of(flash, 0, copy) + content_at, end = at + logical;
                 at < end && forge::get32(flash, at) == 0x06101831U; at += 2048) {
                flash[at + 40] |= 1U;
                forge::put32(flash, at + 4, flash_crc(flash, at + 8, forge::get32(flash, at + 16) - 8));
            }
    }
    [[nodiscard]] std::size_t last_at() const { return last_; }
    [[nodiscard]] std::string text(const std::string& path, Observer observer = Observer::Linux) const {
        const auto machine = support::machine_of(flash);
        const auto* volume = volume_of(machine, "ubi0/station");
        const auto* fs = volume != nullptr ? volume->files(observer) : nullptr;
        if (fs == nullptr)
            return volume != nullptr && volume->problem(Observer::Linux) ? volume->problem(Observer::Linux)->what
                                                                         : std::string("no volume");
        return text_of(*fs, path);
    }
    /// A key of /etc with another hash.
    [[nodiscard]] Bytes other_key(std::uint8_t change) const {
        auto out = key_of_hostname;
        out[4] ^= change;
        return out;
    }

    Bytes flash;
    Bytes key_of_hostname = Bytes(8);
    std::uint32_t hostname_inode = 0;
    static constexpr std::uint32_t part_block = 45;

private:
    /// Fills a page, as the kernel does.
    void pad(std::size_t at, std::uint32_t size) {
        Bytes body(4);
        forge::put32(body, 0, size - 28);
        lay(at, 5, body, 0);
    }
    void lay(std::size_t at, std::uint8_t kind, const Bytes& body, std::uint8_t group) {
        Bytes out(24);
        forge::put32(out, 0, 0x06101831);
        forge::put64(out, 8, sequence_++);
        forge::put32(out, 16, static_cast<std::uint32_t>(24 + body.size()));
        out[20] = kind;
        out[21] = group;
        out.insert(out.end(), body.begin(), body.end());
        forge::put32(out, 4, flash_crc(out, 8, out.size() - 8));
        std::ranges::copy(out, flash.begin() + static_cast<std::ptrdiff_t>(at));
        last_ = at;
    }

    Bytes hostname_ = forge::to_bytes(std::string("hostname\0", 9));
    std::size_t log_ = 0, log_used_ = 0, part_ = 0, used_ = 0, last_ = 0;
    std::uint64_t sequence_ = std::uint64_t{1} << 32U;
};

constexpr std::uint32_t fresh = 5000;  ///< an inode that mkfs did not use

TEST(UbifsJournal, WhatItHoldsCounts) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    EXPECT_EQ(made.text("/etc/hostname"), "weather-station\n");
    made.inode(fresh, 5);
    made.name(made.other_key(1), fresh, "new");
    made.data(fresh, 0, "snow\n");
    EXPECT_EQ(made.text("/etc/new"), "snow\n");
    // Written again: the later node counts.
    made.data(fresh, 0, "wind\n");
    EXPECT_EQ(made.text("/etc/new"), "wind\n");
    // Two names whose hashes are the same.
    made.name(made.key_of_hostname, fresh, "guestbook");
    EXPECT_EQ(made.text("/etc/guestbook"), "wind\n");
    EXPECT_EQ(made.text("/etc/hostname"), "weather-station\n");
    made.name(made.key_of_hostname, 0, "hostname");
    EXPECT_EQ(made.text("/etc/hostname"), "(/etc/hostname does not exist)");
    EXPECT_EQ(made.text("/etc/guestbook"), "wind\n");
    // The old name for another file.
    made.name(made.key_of_hostname, fresh, "hostname");
    EXPECT_EQ(made.text("/etc/hostname"), "wind\n");
    // An inode that is gone, and what hung on it.
    made.inode(fresh, 5, 0);
    EXPECT_EQ(made.text("/etc/new"), fmt::format("(there is no inode {})", fresh));
}

TEST(UbifsJournal, FilesAreCut) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const auto before = made.text("/etc/hostname");
    made.inode(made.hostname_inode, 9000);
    made.data(made.hostname_inode, 1, std::string(4096, 'b'));
    made.data(made.hostname_inode, 2, std::string(808, 'c'));
    EXPECT_EQ(made.text("/etc/hostname"),
              before + std::string(4096 - before.size(), '\0') + std::string(4096, 'b') + std::string(808, 'c'));
    made.inode(made.hostname_inode, 4097);
    made.cut(made.hostname_inode, 9000, 4097);
    EXPECT_EQ(made.text("/etc/hostname").size(), 4097U);
    EXPECT_EQ(made.text("/etc/hostname").back(), 'b') << "the block that is cut stays until it is written anew";
    made.inode(made.hostname_inode, 4096);
    made.cut(made.hostname_inode, 4097, 4096);
    // Longer again: a hole, where the block was.
    made.inode(made.hostname_inode, 5000);
    EXPECT_EQ(made.text("/etc/hostname").substr(4096), std::string(904, '\0'));
}

TEST(UbifsJournal, ItsEndMayBeTornWhereTheMachineStopped) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    made.inode(fresh, 5);
    made.name(made.other_key(1), fresh, "new");
    made.data(fresh, 0, "snow\n");
    made.name(made.other_key(2), fresh, "torn");
    made.flash[made.last_at() + 60] ^= 1;
    // After it was unmounted no write can be torn: the kernel does not mount it.
    EXPECT_EQ(made.text("/etc/new"), "a node that fails its CRC");
    made.in_use();
    EXPECT_EQ(made.text("/etc/new"), "snow\n");
    EXPECT_EQ(made.text("/etc/torn"), "(/etc/torn does not exist)");
    // A reader that asks for no checksums else must ask for them here.
    EXPECT_EQ(made.text("/etc/new", Observer::Loader), "snow\n");
    EXPECT_EQ(made.text("/etc/torn", Observer::Loader), "(/etc/torn does not exist)");
}

TEST(UbifsJournal, WhatBelongsTogetherCountsTogether) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    made.in_use();
    made.inode(fresh, 0, 1, 2);
    made.name(made.other_key(1), fresh, "whole", 2);
    made.name(made.other_key(2), fresh, "half", 1);
    EXPECT_EQ(made.text("/etc/whole"), "");
    EXPECT_EQ(made.text("/etc/half"), "(/etc/half does not exist)");
    made.inode(fresh, 0, 1, 2);
    EXPECT_EQ(made.text("/etc/half"), "");
}

TEST(UbifsJournal, DataBehindAnInodesEndMakeItGrowWhereTheMachineStopped) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    made.inode(fresh, 0);
    made.name(made.other_key(1), fresh, "log");
    made.data(fresh, 0, "snow\n");
    EXPECT_EQ(made.text("/etc/log"), "");
    made.in_use();
    EXPECT_EQ(made.text("/etc/log"), "snow\n");
}

TEST(UbifsJournal, ItsLogEndsWhereOlderNodesBegin) {
    Journaled made;
    if (made.flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    made.inode(fresh, 0);
    made.name(made.other_key(1), fresh, "new");
    // A reference of before the commit: not followed, though it leads to nothing.
    made.refer(7777, 1, 1);
    EXPECT_EQ(made.text("/etc/new"), "");
    Journaled astray;
    astray.refer(7777);
    EXPECT_EQ(astray.text("/etc/new"), "the log names a place that is not on the volume");
    Journaled other;
    const auto log = *block_of(other.flash, 0, 3) + content_at;
    other.flash[log + 24] ^= 1;
    forge::put32(other.flash, log + 4, flash_crc(other.flash, log + 8, 24));
    EXPECT_EQ(other.text("/etc/hostname"), "the log does not begin with the last commit");
}

TEST(UbiTool, ItsVolumesArePlacesLikeOthers) {
    const auto flash = make_flash("lzo");
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const Folder folder;
    folder.write("flash.bin", flash);
    const auto run = [&](const std::string& arguments) {
        return support::shell(std::string(TOOL_PATH) + " " + arguments + " 2>&1");
    };
    const auto listed = run("files " + folder.file("flash.bin") + " --in ubi0/station:/etc");
    EXPECT_EQ(listed.status, 0);
    EXPECT_NE(listed.out.find("hostname"), std::string::npos) << listed.out;
    const auto copied =
        run("copy " + folder.file("flash.bin") + " --from ubi0/station:/etc/hostname --to " + folder.file("out"));
    EXPECT_EQ(copied.status, 0) << copied.out;
    EXPECT_EQ(support::file_bytes(folder.file("out")), forge::to_bytes("weather-station\n"));
    EXPECT_EQ(
        run("copy " + folder.file("flash.bin") + " --from ubi0/tree@0+16 --replace --to " + folder.file("out")).status,
        0);
    EXPECT_EQ(support::file_bytes(folder.file("out")), Bytes(16, 0x5A));
    EXPECT_EQ(run("files " + folder.file("flash.bin") + " --in ubi0:/etc").status, 2);
    EXPECT_EQ(run("files " + folder.file("flash.bin") + " --in ubi7/station:/etc").status, 3);
}

/// A folder packed by one of the systems' own makers; empty: it is not here.
Bytes packed_by(const std::string& command) {
    const Folder folder;
    const std::filesystem::path top = folder.file("top");
    fill(top);
    const auto made = support::shell("cd " + folder.file("") + " && " + command);
    return made.status == 0 ? support::file_bytes(folder.file("fs")) : Bytes{};
}

void expect_all(const Bytes& image, Format format) {
    const auto source = memory_source(image, "d1", 1);
    EXPECT_EQ(recognise_volume(*source).format, format);
    const auto fs = open_file_system(source, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    for (const auto& [name, content] : files()) EXPECT_EQ(text_of(**fs, "/" + name), content) << name;
    EXPECT_EQ(text_of(**fs, "/var/name"), "weather-station\n") << "through the link";
    EXPECT_EQ((*fs)->list(resolve(**fs, "/rooms")->file.id)->size(), 300U);
    EXPECT_EQ((*fs)->lookup((*fs)->root(), "none").error().kind, ErrorKind::NotFound);
    EXPECT_EQ((*fs)->list(resolve(**fs, "/etc/hostname")->file.id).error().kind, ErrorKind::WrongType);
    EXPECT_EQ((*fs)->open((*fs)->root(), "x").error().kind, ErrorKind::WrongType);
}

TEST(Jffs2, IsReadBackFileByFile) {
    for (const char* codecs : {"-m none", "-m priority", "-m size -x zlib", "-m priority -X lzo -x zlib -x rtime"}) {
        const auto image = packed_by(fmt::format("mkfs.jffs2 {} -e 64KiB -l -r top -o fs", codecs));
        if (image.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
        expect_all(image, Format::Jffs2);
    }
}

/// A kernel writes where it likes: the first block may be an erased one.
TEST(Jffs2, ItsFirstBlockMayBeErased) {
    auto image = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (image.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
    image.insert(image.begin(), 65536, 0xFF);
    expect_all(image, Format::Jffs2);
    image[0] = 0;
    EXPECT_NE(Volume(memory_source(image, "d1p1"), 1, 1).info.format, Format::Jffs2)
        << "the block holds something else";
    EXPECT_NE(Volume(memory_source(Bytes(1U << 20U, 0xFF), "d1p1"), 1, 1).info.format, Format::Jffs2);
}

TEST(Jffs2, TheNewestNodesCount) {
    auto image = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (image.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
    const auto crc = [&](std::size_t at, std::size_t size) { return ~crc32(~0U, std::span(image).subspan(at, size)); };
    // A file is deleted by a later name that leads to no inode.
    const auto words = forge::to_bytes("hostname");
    const auto found = std::search(image.begin(), image.end(), words.begin(), words.end());
    ASSERT_NE(found, image.end());
    const auto name = static_cast<std::size_t>(found - image.begin()) - 40;
    const std::size_t added = (image.size() + 3) / 4 * 4;
    image.resize(added + 48, 0xFF);
    std::copy_n(image.begin() + static_cast<std::ptrdiff_t>(name), 48,
                image.begin() + static_cast<std::ptrdiff_t>(added));
    forge::put32(image, added + 16, 1000);
    forge::put32(image, added + 20, 0);
    forge::put32(image, added + 32, crc(added, 32));
    const auto fs = open_file_system(memory_source(image, "d1", 1), Reader::Kernel);
    ASSERT_TRUE(fs);
    const auto gone = resolve(**fs, "/etc/hostname");
    ASSERT_FALSE(gone);
    EXPECT_EQ(gone.error().kind, ErrorKind::NotFound);
    EXPECT_EQ(text_of(**fs, "/rooms/number 7"), "7\n");
    // One that fails its CRC does not count.
    image[added + 33] ^= 1U;
    EXPECT_EQ(text_of(**open_file_system(memory_source(image, "d1", 1), Reader::Kernel), "/etc/hostname"),
              "weather-station\n");
}

TEST(Jffs2, APartThatFailsItsCrcIsTold) {
    auto image = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (image.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
    const auto words = forge::to_bytes("weather-station");
    const auto found = std::search(image.begin(), image.end(), words.begin(), words.end());
    ASSERT_NE(found, image.end());
    *found = 'W';
    EXPECT_EQ(text_of(**open_file_system(memory_source(image, "d1", 1), Reader::Kernel), "/etc/hostname"),
              "(a part of a file fails its CRC)");
}

/// The file with a later node of no data: from byte `from` on, so many of them, in the way `compression`; the file's
/// size.
std::string with_later_node(std::uint32_t from, std::uint32_t size, std::uint8_t compression, std::uint32_t file_size) {
    auto image = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (image.empty()) return "skipped";
    const auto words = forge::to_bytes("weather-station\n");
    const auto found = std::search(image.begin(), image.end(), words.begin(), words.end());
    if (found == image.end()) return "not found";
    const auto node = static_cast<std::size_t>(found - image.begin()) - 68;
    const std::size_t at = (image.size() + 3) / 4 * 4;
    image.resize(at + 68, 0xFF);
    std::copy_n(image.begin() + static_cast<std::ptrdiff_t>(node), 68, image.begin() + static_cast<std::ptrdiff_t>(at));
    const auto crc = [&](std::size_t begin, std::size_t length) {
        return ~crc32(~0U, std::span(image).subspan(begin, length));
    };
    forge::put32(image, at + 4, 68);
    forge::put32(image, at + 8, crc(at, 8));
    forge::put32(image, at + 16, 99);  // a later version
    forge::put32(image, at + 28, file_size);
    forge::put32(image, at + 44, from);
    forge::put32(image, at + 48, 0);
    forge::put32(image, at + 52, size);
    image[at + 56] = compression;
    forge::put32(image, at + 60, 0);
    forge::put32(image, at + 64, crc(at, 60));
    return text_of(**open_file_system(memory_source(image, "d1", 1), Reader::Kernel), "/etc/hostname");
}

/// What the kernel writes when a file is made longer: a node without data.
TEST(Jffs2, AHoleHasNoDataToCheck) {
    const auto longer = with_later_node(16, 4984, 1, 5000);
    if (longer == "skipped") GTEST_SKIP() << "mkfs.jffs2 is not here";
    EXPECT_EQ(longer, "weather-station\n" + std::string(4984, '\0'));
    // It covers what was there before.
    EXPECT_EQ(with_later_node(7, 4, 1, 16), "weather" + std::string(4, '\0') + "tion\n");
}

/// A hole of 4 GiB takes no memory, and nothing unpacks to more than was ever written at once.
TEST(Jffs2, SizesThatAreNoneCostNothing) {
    const auto hole = with_later_node(16, 0xFFFFFFEFU, 1, 5000);
    if (hole == "skipped") GTEST_SKIP() << "mkfs.jffs2 is not here";
    EXPECT_EQ(hole, "weather-station\n" + std::string(4984, '\0'));
    for (const std::uint8_t way : {std::uint8_t{2}, std::uint8_t{6}, std::uint8_t{7}}) {
        EXPECT_EQ(with_later_node(0, (1U << 20U) + 1, way, 16), "(a packed part of a file would be 1048577 bytes long)")
            << int{way};
        EXPECT_EQ(with_later_node(0, 1U << 20U, way, 16).find("would be"), std::string::npos) << int{way};
    }
}

/// The last node of a block whose data end erased is a write that the machine did not come to finish.
TEST(Jffs2, ATornWriteDoesNotCount) {
    const auto plain = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (plain.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
    const auto words = forge::to_bytes("weather-station\n");
    const auto found = std::search(plain.begin(), plain.end(), words.begin(), words.end());
    ASSERT_NE(found, plain.end());
    const auto node = static_cast<std::size_t>(found - plain.begin()) - 68;
    const auto with = [&](const std::string& content, bool more_behind) {
        auto image = plain;
        const std::size_t at = (image.size() + 3) / 4 * 4;
        image.resize(at + 65536, 0xFF);
        std::copy_n(plain.begin() + static_cast<std::ptrdiff_t>(node), 68,
                    image.begin() + static_cast<std::ptrdiff_t>(at));
        const auto crc = [&](std::size_t from, std::size_t size) {
            return ~crc32(~0U, std::span(image).subspan(from, size));
        };
        forge::put32(image, at + 16, 99);  // a later version
        // The sum of what should have been written.
        forge::put32(image, at + 60, ~crc32(~0U, forge::to_bytes("winter-station.\n")));
        forge::put32(image, at + 64, crc(at, 60));
        std::ranges::copy(content, image.begin() + static_cast<std::ptrdiff_t>(at + 68));
        if (more_behind) image[at + 84] = 0;
        return text_of(**open_file_system(memory_source(image, "d1", 1), Reader::Kernel), "/etc/hostname");
    };
    EXPECT_EQ(with("winter-station.\n", false), "winter-station.\n");
    EXPECT_EQ(with("winter-s\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF", false), "weather-station\n");
    EXPECT_EQ(with("winter-s\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF", true), "(a part of a file fails its CRC)");
    EXPECT_EQ(with("winter-station?\n", false), "(a part of a file fails its CRC)");
}

TEST(Cramfs, IsReadBackFileByFile) {
    const auto image = packed_by("mkfs.cramfs -n vane top fs");
    if (image.empty()) GTEST_SKIP() << "mkfs.cramfs is not here";
    expect_all(image, Format::Cramfs);
    EXPECT_EQ(recognise_volume(*memory_source(image, "d1", 1)).label, "vane");
    Bytes cut(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(image.size() / 2));
    const auto refused = open_file_system(memory_source(cut, "d1", 1), Reader::Kernel);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().what, "the volume is cut short");
    auto bad = image;
    forge::put32(bad, 64, 0);
    EXPECT_EQ(open_file_system(memory_source(bad, "d1", 1), Reader::Kernel).error().what, "the root is no directory");
}

TEST(Ubi, RootIsNamedAsTheKernelNamesIt) {
    const auto flash = make_flash("lzo");
    if (flash.empty()) GTEST_SKIP() << "mkfs.ubifs and ubinize are not here";
    const auto machine = support::machine_of(flash);
    for (const char* name : {"ubi0:station", "ubi:station", "ubi0_0", "/dev/ubi0_0", "ubi0"}) {
        const auto root = resolve_root(machine, name);
        ASSERT_NE(root.volume, nullptr) << name;
        EXPECT_EQ(root.volume->place, "ubi0/station") << name;
    }
    const auto none = resolve_root(machine, "ubi0:lost");
    EXPECT_EQ(none.volume, nullptr);
    EXPECT_FALSE(none.cannot_tell);
    EXPECT_EQ(none.near, (std::vector<std::string>{"ubi0/station is ubi0:station", "ubi0/tree is ubi0:tree"}));
    EXPECT_TRUE(resolve_root(support::machine_of(Bytes(1U << 20U)), "ubi0:lost").cannot_tell);
}

// --- flash that is divided by words ---------------------------------------------------------------------------------

std::string layout_text(std::string_view words, std::uint64_t size = 8U << 20U) {
    const auto parts = parse_flash_layout(words, size);
    if (!parts) return parts.error().what;
    std::string out;
    for (const auto& part : *parts)
        out += fmt::format("{}{}:{}+{}", out.empty() ? "" : " ", part.name, part.at, part.size);
    return out;
}

TEST(FlashLayout, IsReadAsTheKernelReadsIt) {
    EXPECT_EQ(layout_text("spi0.0:512k(u-boot)ro,64k(env),-(rootfs)"),
              "u-boot:0+524288 env:524288+65536 rootfs:589824+7798784");
    EXPECT_EQ(layout_text("mtdparts=nand:0x100000@0x80000(a),1m"), "a:524288+1048576 :1572864+1048576");
    EXPECT_EQ(layout_text("4m(a),8m(b)"), "a:0+4194304 b:4194304+4194304") << "what ends behind the flash is cut";
    EXPECT_EQ(layout_text("1m(a);other:2m(b)"), "a:0+1048576") << "the first flash alone";
    EXPECT_EQ(layout_text("512(a),-"), "a:0+512 :512+8388096");
    EXPECT_EQ(layout_text("8m(a),-(b)"), "a part that begins behind the flash's 8388608 bytes at character 11");
    EXPECT_EQ(layout_text("-(a),1m(b)"), "a part behind the one that takes all the rest at character 6");
    EXPECT_EQ(layout_text("1m(a"), "a bracket that is not closed at character 3");
    EXPECT_EQ(layout_text("x(a)"), "no size at character 1");
    EXPECT_EQ(layout_text("1m@(a)"), "no place behind the @ at character 4");
    EXPECT_EQ(layout_text("1m@100(a)"), "a part that begins inside a sector at character 10");
    EXPECT_EQ(layout_text("99999999999g(a)"), "no size at character 12");
    EXPECT_EQ(layout_text("1m(a)b"), "neither a comma nor the end at character 6");
    EXPECT_EQ(layout_text(""), "no size at character 1");
    std::string many = "512";
    for (int i = 0; i < 127; ++i) many += ",512";
    EXPECT_EQ(parse_flash_layout(many, 8U << 20U)->size(), 128U);
    EXPECT_EQ(layout_text(many + ",512").substr(0, 27), "more parts than are read at");
}

TEST(FlashLayout, PartsAnswerToTheirNames) {
    const auto root = packed_by("mkfs.jffs2 -m none -e 64KiB -l -r top -o fs");
    if (root.empty()) GTEST_SKIP() << "mkfs.jffs2 is not here";
    Bytes flash(65536, 0xFF);
    flash.insert(flash.end(), root.begin(), root.end());
    auto machine = support::machine_of(flash);
    EXPECT_TRUE(resolve_root(machine, "/dev/mtdblock1").cannot_tell);
    EXPECT_NE(resolve_root(machine, "mtd:rootfs").note.find("--flash-layout"), std::string::npos);
    divide_flash(machine.disks[0], *parse_flash_layout("64k(boot),-(rootfs)", flash.size()));
    assemble_layers(machine);
    for (const char* name : {"/dev/mtdblock1", "mtd1", "mtd:rootfs"}) {
        const auto found = resolve_root(machine, name);
        ASSERT_NE(found.volume, nullptr) << name;
        EXPECT_EQ(found.volume->place, "d1p2");
        EXPECT_EQ(found.volume->info.format, Format::Jffs2);
    }
    EXPECT_TRUE(resolve_root(machine, "mtd:none").cannot_tell);
    EXPECT_EQ(text_of(*machine.volume(1, 2)->files(Observer::Linux), "/etc/hostname"), "weather-station\n");
}

TEST(FlashLayout, IsTakenFromTheCommandLineOrAFile) {
    const Folder folder;
    const auto image = folder.write("nor", Bytes(1U << 20U, 0xFF));
    folder.write("words", forge::to_bytes("mtdparts=spi:64k(u-boot),64k(env),-(rootfs)\n# more\n"));
    const std::string tool = TOOL_PATH " layout " + image + " --flash-layout ";
    for (const auto& words : {std::string("'d1=64k(u-boot),64k(env),-(rootfs)'"), "d1=" + folder.file("words")}) {
        const auto shown = support::shell(tool + words);
        EXPECT_EQ(shown.status, 0) << shown.out;
        EXPECT_NE(shown.out.find("rootfs"), std::string::npos) << shown.out;
    }
    for (const char* words : {"'d2=64k(a)'", "'64k(a)'", "d1"}) {
        const auto refused = support::shell(tool + words);
        EXPECT_EQ(refused.status, 2) << words;
        EXPECT_NE(refused.out.find("--flash-layout wants dN=PARTS for one of the 1 image: "), std::string::npos)
            << refused.out;
    }
    const auto wrong = support::shell(tool + "'d1=64k(u-boot'");
    EXPECT_EQ(wrong.status, 2);
    EXPECT_NE(wrong.out.find("--flash-layout d1=: a bracket that is not closed at character 4"), std::string::npos)
        << wrong.out;
}

}  // namespace
