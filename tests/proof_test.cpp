// SPDX-License-Identifier: MIT
// What proves that unprotected parts are whole, and what is said where nothing does.
#include <openssl/evp.h>
#include <algorithm>

#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

std::string md5(const Bytes& bytes) {
    std::array<std::uint8_t, 16> out{};
    unsigned size = 0;
    EVP_Digest(bytes.data(), bytes.size(), out.data(), &size, EVP_md5(), nullptr);
    return hex(out, "");
}

const std::string kernel_path = std::string("/boot/vmlinuz-") + demo::release;

support::Checked with_kernel(const Bytes& kernel, const std::function<void(demo::FrontDesk&)>& more = {}) {
    auto d = demo::front_desk();
    d.root.file(kernel_path, kernel);
    if (more) more(d);
    return support::Checked(d.build());
}

/// A payload whose format carries no check, with one literal byte changed: it unpacks to the right size all the same.
Bytes silently_damaged() {
    auto kernel = forge::make_kernel({demo::release, forge::lz4_legacy});
    kernel[kernel.size() / 2] ^= 1U;
    const auto image = inspect_kernel(*support::source_of(kernel));
    EXPECT_TRUE(image && image->soundness == Soundness::Unknown) << image->soundness_text;
    return kernel;
}

TEST(KernelProof, ASilentlyDamagedOneIsUnknownNotSound) {
    const auto checked = with_kernel(silently_damaged());
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(checked.system().at(Stage::Kernel).state, State::Unknown);
    EXPECT_NE(checked.system().at(Stage::Kernel).text.find("the build's CRC-32 does not match"), std::string::npos);
    EXPECT_TRUE(checked.has(Code::KernelNotVerified));
    EXPECT_EQ(checked.system().at(Stage::Services).state, State::Holds) << "what follows is looked at all the same";
}

TEST(KernelProof, ThePackagesDigestDecides) {
    const auto kernel = silently_damaged();
    const std::string list = std::string("/var/lib/dpkg/info/linux-image-") + demo::release + ".md5sums";
    const auto same = with_kernel(kernel, [&](auto& d) {
        d.root.file("/var/lib/dpkg/info/bash.md5sums", std::string(32, 'a') + "  boot/vmlinuz-6.1.0-almhof\n");
        d.root.file(list, md5(Bytes{1}) + "  boot/config\n" + md5(kernel) + "  boot/vmlinuz-6.1.0-almhof\n");
    });
    EXPECT_EQ(same.stage(), "yes");
    EXPECT_NE(
        same.system().at(Stage::Kernel).text.find("byte by byte the file of the package linux-image-6.1.0-almhof"),
        std::string::npos);
    const auto differs =
        with_kernel(kernel, [&](auto& d) { d.root.file(list, md5(Bytes{1}) + "  boot/vmlinuz-6.1.0-almhof\n"); });
    EXPECT_EQ(differs.stage(), "unknown");
    EXPECT_TRUE(differs.has(Code::FileDiffersFromPackage));
    const auto& evidence = differs.system().at(Stage::Kernel).evidence;
    EXPECT_TRUE(std::ranges::any_of(evidence, [&](const Evidence& e) {
        return e.place == list && e.expected == md5(Bytes{1}) && e.found == md5(kernel);
    }));
}

TEST(KernelProof, DamageThatShowsInThePartNobodyRunsStarts) {
    auto kernel = forge::make_kernel({demo::release, forge::lz4_legacy});
    std::fill_n(kernel.begin() + 0x268, 300, std::uint8_t{0});
    std::fill_n(kernel.begin() + 0x7F0, 16, std::uint8_t{0});
    const auto checked = with_kernel(kernel);
    EXPECT_EQ(checked.stage(), "yes") << "GRUB 2 goes straight to the 32-bit part";
    EXPECT_EQ(checked.system().at(Stage::Kernel).state, State::Doubtful);
}

TEST(KernelProof, AMarkThatIsPutBackMakesTheChecksumHold) {
    auto kernel = forge::make_kernel({demo::release, forge::lz4_legacy});
    kernel[0x203] ^= 0xFFU;  // in HdrS
    const auto image = inspect_kernel(*support::source_of(kernel), KernelEntry::Efi);
    ASSERT_TRUE(image);
    EXPECT_EQ(image->soundness, Soundness::Sound);
    EXPECT_NE(image->soundness_text.find("but for the mark HdrS"), std::string::npos) << image->soundness_text;
    EXPECT_EQ(inspect_kernel(*support::source_of(kernel), KernelEntry::Protected)->soundness, Soundness::Damaged)
        << "GRUB does look at it";
    kernel[kernel.size() / 2] ^= 1U;
    EXPECT_NE(inspect_kernel(*support::source_of(kernel), KernelEntry::Efi)->soundness, Soundness::Sound);
}

TEST(KernelProof, BuildsWithoutAChecksumAreNotBlamed) {
    const std::string release = "6.15.0-almhof";
    const auto image = inspect_kernel(*support::source_of(forge::make_kernel({release, forge::lz4_legacy, false})));
    ASSERT_TRUE(image);
    EXPECT_FALSE(image->changed_since_build);
    EXPECT_EQ(image->soundness, Soundness::Unknown);
    EXPECT_EQ(inspect_kernel(*support::source_of(forge::make_kernel({release, nullptr, false})))->soundness,
              Soundness::Sound)
        << "gzip has its own check";
    for (const char* old : {"6.14.9", "5.10.0-1-amd64", "2.6.32"})
        EXPECT_TRUE(inspect_kernel(*support::source_of(forge::make_kernel({old, forge::lz4_legacy, false})))
                        ->changed_since_build)
            << old;
    for (const char* young : {"6.15.0", "7.0.1", "six"})
        EXPECT_FALSE(inspect_kernel(*support::source_of(forge::make_kernel({young, forge::lz4_legacy, false})))
                         ->changed_since_build)
            << young;
}

/// An unpacked kernel with one segment at ffffffff81000000 and a list of relocations behind its section table.
Bytes kernel_with_relocations(const std::vector<std::uint32_t>& list) {
    constexpr std::size_t size = 100'000;
    Bytes out(size);
    const std::uint8_t ident[] = {0x7F, 'E', 'L', 'F', 2, 1, 1};
    std::copy(std::begin(ident), std::end(ident), out.begin());
    forge::put16(out, 16, 2);
    forge::put16(out, 18, 62);
    forge::put32(out, 20, 1);
    forge::put64(out, 32, 64);
    forge::put64(out, 40, size - 64);
    forge::put16(out, 54, 56);
    forge::put16(out, 56, 1);
    forge::put16(out, 58, 64);
    forge::put16(out, 60, 1);
    forge::put32(out, 64, 1);
    forge::put64(out, 64 + 16, 0xFFFFFFFF81000000U);
    forge::put64(out, 64 + 40, 0x200000);
    const auto filler = forge::noise(size - 300, 5);
    std::copy(filler.begin(), filler.end(), out.begin() + 200);
    for (const auto word : list) forge::put32(out, out.size(), word);
    return out;
}

TEST(KernelProof, RelocationsAreWalkedAsTheKernelDoes) {
    const auto judge = [](const std::vector<std::uint32_t>& list) {
        forge::KernelOptions options{demo::release, forge::lz4_legacy, false};
        options.payload = kernel_with_relocations(list);
        return inspect_kernel(*support::source_of(forge::make_kernel(options)));
    };
    const auto good = judge({0, 0x81000100, 0x811FFFFF, 0, 0, 0x81000000, 0x81200000});
    ASSERT_TRUE(good);
    EXPECT_EQ(good->soundness, Soundness::Unknown) << good->soundness_text;
    for (const std::uint32_t wrong : {0x80FFFFFFU, 0x81200001U, 0x01000000U, 0xFFFFFFFFU}) {
        const auto bad = judge({0, 0x81000100, 0, 0, wrong, 0x81000004});
        ASSERT_TRUE(bad);
        EXPECT_EQ(bad->soundness, Soundness::Damaged) << wrong;
        EXPECT_TRUE(bad->relocations_bad);
    }
    forge::KernelOptions options{demo::release, forge::lz4_legacy, false};
    options.payload = kernel_with_relocations({0, 0, 0, 0x71000100});
    const auto checked = with_kernel(forge::make_kernel(options));
    EXPECT_EQ(checked.stage(), "kernel");
    EXPECT_NE(checked.system().symptom.find("32-bit relocation outside of kernel!"), std::string::npos);
}

TEST(InitProof, AFileThatIsNotItsPackagesIsARisk) {
    auto d = demo::front_desk();
    d.root.file("/var/lib/dpkg/info/busybox.md5sums", md5(Bytes{7}) + "  usr/bin/busybox\n");
    const support::Checked changed(d.build());
    EXPECT_EQ(changed.stage(), "yes");
    EXPECT_TRUE(changed.has(Code::FileDiffersFromPackage));
    d.root.file("/var/lib/dpkg/info/busybox.md5sums", md5(forge::make_program()) + "  bin/busybox\n");
    EXPECT_FALSE(support::Checked(d.build()).has(Code::FileDiffersFromPackage));
}

// --- GRUB's start-up code --------------------------------------------------------------------------------------------

TEST(StartUpCode, IsComparedWithItsFile) {
    auto d = demo::front_desk();
    // What grub-install leaves: the same image without its redundancy.
    const auto file =
        forge::make_grub_core({"(,msdos1)/boot/grub", {"fshelp", "ext2", "part_msdos", "biosdisk"}, "", 1, false});
    d.root.file("/boot/grub/i386-pc/core.img", file);
    const auto image = d.build();
    const support::Checked whole(image);
    EXPECT_EQ(whole.stage(), "yes");
    EXPECT_FALSE(whole.has(Code::LoaderCodeDiffers));
    const auto& evidence = whole.system().at(Stage::Loader).evidence;
    EXPECT_TRUE(std::ranges::any_of(evidence, [](const Evidence& e) {
        return e.found == "its start-up code is that of d1p1:/boot/grub/i386-pc/core.img";
    }));
    // Bytes that the installer fills in may differ: the size of the redundancy in the header does already.
    // One byte of the decoder changed: nothing protects it, and the stand-in unpacks nothing.
    for (const std::size_t at : {std::size_t{1024 + 0x60}, std::size_t{1024 + 255}, std::size_t{512 + 0xE0}}) {
        auto broken = image;
        broken[at] ^= 0x10U;
        const support::Checked checked(broken);
        EXPECT_EQ(checked.stage(), "loader") << at;
        const auto& rung = checked.system().at(Stage::Loader);
        ASSERT_FALSE(rung.evidence.empty());
        if (rung.text.find("differs from the same code in its file") == std::string::npos)
            continue;  // the code stops by itself
        EXPECT_EQ(rung.evidence.front().range, (DiskRange{1, at, 1}));
        EXPECT_NE(rung.evidence.front().expected.find("as in d1p1:/boot/grub/i386-pc/core.img"), std::string::npos);
    }
    // A file of another version differs nearly everywhere and tells nothing.
    auto other = file;
    for (std::size_t i = 512; i < 1024; ++i) other[i] = static_cast<std::uint8_t>(i * 7);
    d.root.file("/boot/grub/i386-pc/core.img", other);
    EXPECT_EQ(support::Checked(d.build()).stage(), "yes");
}

TEST(StartUpCode, WhatItMustLoadIsSeenToBeLoaded) {
    auto image = demo::front_desk().build();
    // The first sector of the core: its disk call becomes nothing, so that it jumps on without having read.
    const std::string call("\xCD\x13", 2);
    std::string sector(image.begin() + 512, image.begin() + 1024);
    for (auto at = sector.find(call); at != std::string::npos && at < 400; at = sector.find(call, at + 1)) {
        image[512 + at] = 0x90;
        image[512 + at + 1] = 0x90;
    }
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "loader");
    EXPECT_TRUE(checked.has(Code::LoaderNotLoaded));
    EXPECT_NE(checked.system().at(Stage::Loader).text.find("does not load the rest of it"), std::string::npos)
        << checked.system().at(Stage::Loader).text;
}

// --- modules and media -----------------------------------------------------------------------------------------------

TEST(Modules, WithoutASymbolTableTheyLoad) {
    auto d = demo::front_desk();
    d.root.file("/boot/grub/i386-pc/all_video.mod", forge::make_grub_module({"all_video", {"boot"}, {}, {}, false}));
    auto& bytes = d.root.at("/boot/grub/grub.cfg").content;
    const std::string before = "if insmod all_video; then set timeout=9; else set timeout=8; fi\n";
    std::string text(bytes.begin(), bytes.end());
    bytes = forge::to_bytes(text + before);
    const support::Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "yes");
    EXPECT_EQ(checked.verdict.menus.at(0).timeout, 9);
    EXPECT_TRUE(checked.verdict.menus[0].messages.empty());
}

TEST(Modules, PackedOnesAreReadWhenTheCoreCanUnpack) {
    struct Case {
        Bytes (*pack)(const Bytes&);
        const char* module;
    };
    for (const auto& c : {Case{forge::gzip, "gzio"}, Case{forge::xz, "xzio"}, Case{support::lzop, "lzopio"}}) {
        auto d = demo::front_desk();
        for (const auto& [path, node] : d.root.nodes())
            if (path.ends_with(".mod") || path.ends_with(".lst")) d.root.at(path).content = c.pack(node.content);
        EXPECT_EQ(support::Checked(d.build()).stage(), "loader") << c.module;
        d.disk.gap = forge::make_grub_core(
            {"(,msdos1)/boot/grub", {"fshelp", "ext2", "part_msdos", "biosdisk", c.module}, "", 1, true});
        EXPECT_EQ(support::Checked(d.build()).stage(), "yes") << c.module;
    }
}

TEST(Media, GrubsHybridFirstSectorKeepsItsPointerElsewhere) {
    // boot_hybrid.img as its source has it: the pointer at 1B0h, which the code names as 7DB0h.
    Bytes sector(512);
    const auto boot = forge::make_grub_boot(7);
    std::copy(boot.begin(), boot.end(), sector.begin());
    forge::put64(sector, 0x5C, 0);
    forge::put64(sector, 0x1B0, 5580);
    sector[0x120] = 0xB0;
    sector[0x121] = 0x7D;
    const auto hybrid = recognise_grub_boot(sector);
    ASSERT_TRUE(hybrid);
    EXPECT_EQ(hybrid->core_sector, 5580U);
    EXPECT_EQ(hybrid->pointer_at, 0x1B0U);
    sector[0x121] = 0;
    EXPECT_EQ(recognise_grub_boot(sector)->pointer_at, 0x5CU) << "a pointer that was wiped is no hybrid";
}

Bytes other_program(std::string_view version, std::uint16_t protocol) {
    Bytes out(40'000);
    const auto code = forge::noise(out.size() - 2048, 3);
    std::copy(code.begin(), code.end(), out.begin() + 2048);
    out[0x1F1] = 2;
    forge::put32(out, 0x1F4, static_cast<std::uint32_t>((out.size() - 1536 + 15) / 16));
    forge::put16(out, 0x1FE, 0xAA55);
    forge::put16(out, 0x200, 0x66EB);
    std::copy_n("HdrS", 4, out.begin() + 0x202);
    forge::put16(out, 0x206, protocol);
    forge::put16(out, 0x20E, 0x300);
    std::copy(version.begin(), version.end(), out.begin() + 0x500);
    out[0x211] = 1;
    out.resize(out.size() - 7);  // the size counts whole units of 16 bytes
    return out;
}

TEST(Media, ProgramsInAKernelsFormatNeedNoRoot) {
    for (const auto& [version, protocol] :
         {std::pair<std::string_view, std::uint16_t>{"Mountain bell 6.10", 0x020C}, {"1.0.0+hut", 0x0207}}) {
        const auto image = inspect_kernel(*support::source_of(other_program(version, protocol)));
        ASSERT_TRUE(image);
        EXPECT_TRUE(image->other_program);
        EXPECT_EQ(image->soundness, Soundness::Sound) << image->soundness_text;
    }
    EXPECT_FALSE(inspect_kernel(*support::source_of(forge::make_kernel()))->other_program);
    auto shorter = other_program("Mountain bell 6.10", 0x020C);
    shorter.resize(shorter.size() - 16);
    EXPECT_EQ(inspect_kernel(*support::source_of(shorter))->soundness, Soundness::Cut);
    // On a menu beside a system it is no entry of that system.
    auto d = demo::front_desk();
    d.root.file("/boot/bell.bin", other_program("Mountain bell 6.10", 0x020C));
    auto& bytes = d.root.at("/boot/grub/grub.cfg").content;
    const std::string text(bytes.begin(), bytes.end());
    bytes = forge::to_bytes("menuentry 'Ring the bell' {\n linux /boot/bell.bin\n}\n" + text);
    const support::Checked first(d.build());
    ASSERT_EQ(first.verdict.systems.size(), 1U);
    EXPECT_EQ(first.system().named_by.size(), 2U);
    EXPECT_EQ(first.stage(), "yes");
    // Alone on a disk it is what the disk starts.
    for (const char* path : {"/etc/os-release", "/etc/passwd", "/etc/fstab", "/etc/inittab"}) d.root.remove(path);
    bytes = forge::to_bytes("set timeout=1\nmenuentry 'Ring the bell' {\n linux /boot/bell.bin\n}\n");
    const support::Checked alone(d.build());
    ASSERT_EQ(alone.verdict.systems.size(), 1U);
    EXPECT_EQ(alone.system().kind, SystemKind::Tool);
    EXPECT_EQ(alone.system().name, "Ring the bell");
    EXPECT_EQ(alone.stage(), "yes");
    for (const Stage stage : {Stage::Ramdisk, Stage::Root, Stage::Init, Stage::Services})
        EXPECT_EQ(alone.system().at(stage).state, State::NotNeeded);
    EXPECT_TRUE(alone.verdict.all_start());
}

TEST(Media, TheRamdisksOwnInitDecidesWithoutARoot) {
    auto d = demo::front_desk();
    d.ramdisk.remove("/scripts/local");
    auto& bytes = d.root.at("/boot/grub/grub.cfg").content;
    std::string text(bytes.begin(), bytes.end());
    const std::string root = std::string(" root=UUID=") + demo::root_uuid;
    for (auto at = text.find(root); at != std::string::npos; at = text.find(root)) text.erase(at, root.size());
    bytes = forge::to_bytes(text);
    const support::Checked own(d.build());
    EXPECT_EQ(own.system().at(Stage::Root).state, State::Unknown);
    EXPECT_EQ(own.stage(), "unknown");
    // One that is known to give up without root= does.
    d.ramdisk.file("/scripts/local", "x").file("/conf/initramfs.conf", "MODULES=most\n");
    const support::Checked gives_up(d.build());
    EXPECT_EQ(gives_up.stage(), "root");
    EXPECT_TRUE(gives_up.has(Code::RootNotNamed));
    // As its maker writes it: another setting ends like that one.
    d.ramdisk.file("/conf/initramfs.conf", "MODULES=most\nDEVICE=\nNFSROOT=auto\n");
    EXPECT_EQ(support::Checked(d.build()).stage(), "root");
    d.ramdisk.file("/conf/conf.d/root", "ROOT=/dev/sda1\n");
    EXPECT_EQ(support::Checked(d.build()).stage(), "unknown") << "it brings a root along";
}

TEST(Roots, TypesAndLabelsMustFit) {
    struct Case {
        const char* option;
        const char* stage;
    };
    for (const auto& c :
         {Case{"rootfstype=xfs", "root"}, Case{"rootfstype=ext4", "yes"}, Case{"rootfstype=ext3", "root"},
          Case{"rootfstype=btrfs,ext4", "yes"}, Case{"rootfstype=auto", "yes"}}) {
        auto d = demo::front_desk();
        auto& bytes = d.root.at("/boot/grub/grub.cfg").content;
        std::string text(bytes.begin(), bytes.end());
        text.replace(text.find(" ro quiet"), 9, std::string(" ro ") + c.option);
        bytes = forge::to_bytes(text);
        const support::Checked checked(d.build());
        EXPECT_EQ(checked.stage(), c.stage) << c.option;
        if (checked.system().stops_at) EXPECT_TRUE(checked.has(Code::RootTypeWrong));
    }
    forge::DiskSpec spec;
    spec.gpt = true;
    spec.size = 8U << 20U;
    spec.partitions = {{2048, Bytes(1U << 20U), 0x83, false}};
    auto machine = support::machine_of(forge::make_disk(spec));
    const Volume& plain = *machine.disks[0].volumes.at(0);
    const auto named = std::make_shared<const Volume>(plain.source, 1, 1, plain.partuuid, "inn root");
    machine.disks[0].volumes[0] = named;
    EXPECT_EQ(resolve_root(machine, "PARTLABEL=inn\\x20root").volume, named);
    EXPECT_EQ(resolve_root(machine, "PARTLABEL=other").volume, nullptr);
    EXPECT_FALSE(resolve_root(machine, "PARTLABEL=other").cannot_tell);
}

}  // namespace
