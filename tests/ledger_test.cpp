// SPDX-License-Identifier: MIT
// The ledger server: what its generator writes, read by the systems' own programs; and what becomes of the machine.
#include <filesystem>
#include <fstream>

#include <fmt/format.h>

#include <herberge/unlock.hpp>

#include "forge/servers.hpp"
#include "ledger.hpp"
#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr const char* uuid = "0f500000-0001-4a01-8a01-00000f500001";

forge::Tree some_tree() {
    forge::Tree out;
    out.file("/etc/hostname", "ledger\n").link("/sbin", "usr/sbin").directory("/proc");
    for (int i = 0; i < 90; ++i)
        out.file(fmt::format("/many/guest {}", i), std::string(static_cast<std::size_t>(i) * 97, 'x'));
    for (int i = 0; i < 10; ++i) out.file(fmt::format("/few/g{}", i), std::string("a"));
    out.file("/usr/sbin/init", forge::noise(300000, 3), 0755);
    out.link("/long", std::string(336, 'l'));
    Bytes holed(4096 * 5);
    holed[0] = 1;
    holed[4096 * 4] = 2;
    out.file("/holed", holed);
    out.at("/holed").holes = {{4096, 4096 * 3}};
    return out;
}

TEST(ForgedXfs, IsReadAsItWasWritten) {
    const auto tree = some_tree();
    const auto image = forge::make_xfs(tree, {.uuid = forge::uuid_from(uuid), .label = "books"});
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto fs = open_file_system(memory_source(image, "d1p1", 1), reader);
        ASSERT_TRUE(fs) << fs.error().text();
        EXPECT_EQ((*fs)->info().uuid, uuid);
        EXPECT_EQ((*fs)->info().label, "books");
        EXPECT_EQ((*fs)->info().incompatible, 1U);
        EXPECT_TRUE((*fs)->mount_obstacles("").empty());
        EXPECT_TRUE((*fs)->remarks().empty());
        EXPECT_EQ((*fs)->unreplayed(), std::nullopt);
        support::expect_all(**fs, tree);
    }
    EXPECT_THROW(forge::make_xfs(tree, {.size = 6U << 20U}), std::runtime_error);
}

TEST(ForgedXfs, StandsBeforeTheKernelAndTheRepairer) {
    const support::Folder folder;
    const auto tree = some_tree();
    const std::string path = folder.file("books.xfs");
    const std::string at = folder.file("mounted");
    forge::write_sparse(path, forge::make_xfs(tree, {.uuid = forge::uuid_from(uuid)}));
    std::filesystem::create_directory(at);
    const support::Turn turn;
    if (!support::works("mount -o loop,ro " + path + " " + at)) GTEST_SKIP() << "nothing can be mounted here";
    for (const auto& [name, node] : tree.nodes()) {
        if (node.kind == forge::Node::Kind::Link) {
            EXPECT_EQ(std::filesystem::read_symlink(at + name), node.target) << name;
        } else if (node.kind == forge::Node::Kind::File) {
            std::ifstream in(at + name, std::ios::binary);
            EXPECT_EQ((Bytes{std::istreambuf_iterator<char>(in), {}}), node.content) << name;
        }
    }
    EXPECT_TRUE(support::works("umount " + at));
    EXPECT_TRUE(support::works("xfs_repair -n -f -o force_geometry " + path));
}

TEST(ForgedMirror, IsAMemberByItsOwnToolsMeasure) {
    const support::Folder folder;
    const std::string path = folder.file("member.img");
    forge::write_sparse(path, forge::make_mirror(Bytes(1U << 20U), 1, {"books", forge::uuid_from(uuid)}));
    if (!support::works("mdadm --version")) GTEST_SKIP() << "mdadm is not here";
    const std::string told = folder.file("told");
    ASSERT_EQ(std::system(fmt::format("mdadm --examine {} > {} 2>&1", path, told).c_str()), 0);
    std::ifstream in(told);
    const std::string text{std::istreambuf_iterator<char>(in), {}};
    for (const char* line : {"Array UUID : 0f500000:00014a01:8a010000:0f500001", "Name : books", "Raid Level : raid1",
                             "Raid Devices : 2", "Data Offset : 2048 sectors", "- correct",
                             "Device Role : Active device 1", "Array State : AA", "State : clean", "Events : 17"})
        EXPECT_NE(text.find(line), std::string::npos) << line << "\n" << text;
}

/// The machine of a story, with the passphrase where somebody tells it.
struct Walked {
    Machine machine;
    Verdict verdict;
    Walked(demo::Ledger parts, std::size_t count, bool told) {
        auto disks = parts.build();
        for (std::size_t i = 0; i < count; ++i) {
            const int number = static_cast<int>(i) + 1;
            machine.disks.push_back(inspect_disk(
                memory_source(std::move(disks.at(i)), fmt::format("d{}", number), number), number, "ledger.img"));
        }
        const std::string_view key = demo::ledger_passphrase;
        if (told)
            machine.more_layers.push_back(
                luks_layer({{"lvm/" + parts.group + "/books",
                             std::make_shared<const Secret>(Secret({key.begin(), key.end()})), "the key"}}));
        assemble_layers(machine);
        verdict = check(machine);
        for (const auto& finding : verdict.findings) support::expect_screen_of_table(finding);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.front(); }
    [[nodiscard]] const StageState& root() const { return system().at(Stage::Root); }
    [[nodiscard]] std::vector<Code> codes() const {
        std::vector<Code> out;
        for (const auto& finding : verdict.findings) out.push_back(finding.code);
        return out;
    }
};

TEST(Ledger, StopsWhereItsStoriesSay) {
    for (const auto& story : demo::ledger_stories()) {
        auto parts = demo::ledger();
        story.change(parts);
        const Walked walked(parts, story.files.size(), story.told);
        const auto& system = walked.system();
        ASSERT_EQ(walked.verdict.systems.size(), 1U) << story.name;
        EXPECT_EQ(system.stops_at ? std::string(stage_id(*system.stops_at)) : "", story.stops_at)
            << story.name << ": " << walked.root().text;
        EXPECT_EQ(system.starts, story.stops_at.empty() ? Starts::Yes : Starts::No) << story.name;
        if (story.told) EXPECT_EQ(system.name, "Almhof Ledger Server 2 (Steinbock)") << story.name;
        for (const Stage stage : {Stage::Firmware, Stage::BootCode, Stage::Loader, Stage::Configuration, Stage::Entry,
                                  Stage::Kernel, Stage::Ramdisk})
            EXPECT_EQ(system.at(stage).state, State::Holds) << story.name << " " << stage_id(stage);
    }
}

TEST(Ledger, WholeItIsFoundThroughAllItsLayersAndNothingIsSaidAgainstIt) {
    const Walked walked(demo::ledger(), 2, true);
    EXPECT_EQ(walked.system().place, "open/lvm/almhof/books");
    EXPECT_EQ(walked.codes(), std::vector<Code>{});
    EXPECT_EQ(walked.root().text.substr(0, 108),
              "root=/dev/mapper/books_open is open/lvm/almhof/books: open/lvm/almhof/books is a mountable xfs file "
              "system; ");
    EXPECT_NE(walked.root().text.find("mdadm opens the array md/books, then lvm opens the logical volume "
                                      "lvm/almhof/books, then cryptsetup opens the unlocked volume "
                                      "open/lvm/almhof/books"),
              std::string::npos)
        << walked.root().text;
}

TEST(Ledger, WithOneDiskItSaysWhichMemberIsMissing) {
    const Walked walked(demo::ledger(), 1, true);
    EXPECT_EQ(walked.codes(), (std::vector<Code>{Code::LayerMemberMissing, Code::LayerMemberMissing}));
    EXPECT_EQ(walked.system().starts, Starts::Yes);
}

TEST(Ledger, ARenamedGroupIsNamedAsTheReason) {
    auto parts = demo::ledger();
    parts.group = "almhof2";
    const Walked walked(parts, 2, true);
    EXPECT_EQ(walked.root().findings, std::vector<Code>{Code::RootNotFound});
    EXPECT_EQ(walked.root().text,
              "nothing on this machine answers to root=/dev/mapper/books_open; RAM disk:/cryptroot/crypttab, line 1 "
              "makes it from /dev/mapper/almhof-books, which is not there");
    EXPECT_NE(walked.root().evidence.front().found.find("lvm/almhof2/books is /dev/mapper/almhof2-books"),
              std::string::npos);
}

TEST(Ledger, WithoutThePassphraseNothingIsSaidOfWhatLiesInside) {
    const Walked walked(demo::ledger(), 2, false);
    EXPECT_EQ(walked.system().starts, Starts::Unknown);
    EXPECT_EQ(walked.root().state, State::Unknown);
    EXPECT_EQ(walked.codes(), std::vector<Code>{});
    EXPECT_EQ(walked.system().symptom, "");
}

/// A line of fstab and one of crypttab, and what of them stops the ledger server.
struct Mount {
    const char* name;
    const char* fstab;
    const char* crypttab;
    State state;
    std::vector<Code> codes;
};
class Mounts : public testing::TestWithParam<Mount> {};
TEST_P(Mounts, OfNamesThatCrypttabGives) {
    auto parts = demo::ledger();
    const auto add = [&](const char* path, const char* line) {
        const auto& old = parts.root.at(path).content;
        parts.root.file(path, std::string(old.begin(), old.end()) + line);
    };
    add("/etc/fstab", GetParam().fstab);
    add("/etc/crypttab", GetParam().crypttab);
    parts.root.directory("/srv");
    const Walked walked(parts, 2, true);
    EXPECT_EQ(walked.system().at(Stage::Services).state, GetParam().state) << walked.system().at(Stage::Services).text;
    EXPECT_EQ(walked.codes(), GetParam().codes);
}
INSTANTIATE_TEST_SUITE_P(
    All, Mounts,
    testing::Values(Mount{"MadeAnewWithARandomKey",
                          "/dev/mapper/scratch /tmp ext4 defaults 0 0\n",
                          "scratch /dev/sda2 /dev/urandom tmp,cipher=aes-xts-plain64\n",
                          State::Holds,
                          {}},
                    Mount{"SwapMadeAnew",
                          "/dev/mapper/swap none swap sw 0 0\n",
                          "swap /dev/sda2 /dev/urandom swap\n",
                          State::Holds,
                          {}},
                    Mount{"TheSameVolumeTwice", "/dev/mapper/books_open /srv xfs defaults 0 0\n", "", State::Holds, {}},
                    Mount{"NobodyMakesIt",
                          "/dev/mapper/guests /srv xfs defaults 0 0\n",
                          "",
                          State::Breaks,
                          {Code::FstabDeviceMissing}}),
    support::by_name);

}  // namespace
