// SPDX-License-Identifier: MIT
#include "forge/board.hpp"
#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

TEST(Kernel, HeaderIsReadAndTheCrcProvesIt) {
    const auto bytes = forge::make_kernel({"6.7.8-weather"});
    const auto image = inspect_kernel(*support::source_of(bytes));
    ASSERT_TRUE(image);
    EXPECT_EQ(image->release, "6.7.8-weather");
    EXPECT_EQ(image->protocol, 0x020F);
    EXPECT_TRUE(image->loads_high && image->relocatable && image->entry64 && image->crc_matches);
    EXPECT_EQ(image->expected_size, bytes.size());
    EXPECT_EQ(image->soundness, Soundness::Sound);
}

/// Places of the set-up header (Linux Documentation/arch/x86/boot.rst).
namespace setup {
constexpr std::size_t sectors = 0x1F1, version = 0x206, load_flags = 0x211, relocatable = 0x234, extended_flags = 0x236;
}

TEST(Kernel, EachFlagOfItsHeaderIsTold) {
    using Put = std::vector<std::pair<std::size_t, std::uint8_t>>;
    const auto with = [](const Put& bytes) {
        auto kernel = forge::make_kernel();
        for (const auto& [at, value] : bytes) kernel[at] = value;
        return inspect_kernel(*support::source_of(kernel)).value();
    };
    const auto sectors = [&](std::uint8_t count) { return with({{setup::sectors, count}}).setup_sectors; };
    EXPECT_EQ(sectors(0), 4U) << "as the first kernels had them";
    EXPECT_EQ(sectors(1), 1U);
    EXPECT_EQ(sectors(5), 5U);
    EXPECT_FALSE(with({{setup::load_flags, 0}}).loads_high);
    EXPECT_FALSE(with({{setup::load_flags, 0xFE}}).loads_high);
    EXPECT_TRUE(with({{setup::load_flags, 1}}).loads_high);
    EXPECT_FALSE(with({{setup::relocatable, 0}}).relocatable);
    EXPECT_FALSE(with({{setup::extended_flags, 0xFE}}).entry64);
    EXPECT_TRUE(with({{setup::extended_flags, 1}}).entry64);
    for (const std::uint8_t minor : std::initializer_list<std::uint8_t>{0x03, 0x04, 0x05, 0x0B, 0x0C, 0x0F}) {
        const auto image = with({{setup::version, minor}});
        EXPECT_EQ(image.protocol, 0x200 + minor);
        EXPECT_EQ(image.relocatable, minor >= 0x05) << int{minor};
        EXPECT_EQ(image.entry64, minor >= 0x0C) << int{minor};
    }
    // An application for UEFI: "MZ", and below 400h what it points to begins with "PE".
    const auto stub = [&](std::uint16_t at, const Put& more = {}) {
        Put all{{0, 'M'}, {1, 'Z'}, {0x3C, static_cast<std::uint8_t>(at)}, {0x3D, static_cast<std::uint8_t>(at >> 8U)}};
        for (std::size_t i = 0x3E; i < 0x40; ++i) all.emplace_back(i, 0);
        all.emplace_back(at, 'P');
        all.emplace_back(at + 1U, 'E');
        all.insert(all.end(), more.begin(), more.end());
        return with(all).efi_stub;
    };
    EXPECT_TRUE(stub(0x80));
    EXPECT_TRUE(stub(0x3FC));
    EXPECT_FALSE(stub(0x400));
    for (const std::size_t at : {0x00U, 0x01U, 0x80U, 0x81U}) EXPECT_FALSE(stub(0x80, {{at, 'x'}})) << at;
    EXPECT_FALSE(with({}).efi_stub);
}

struct Packing {
    const char* name;
    Bytes (*pack)(const Bytes&);
    Compression kind;
    bool checks;
};
class KernelPayloads : public testing::TestWithParam<Packing> {};
TEST_P(KernelPayloads, AreJudgedByUnpackingWhenThereIsNoCrc) {
    auto bytes = forge::make_kernel({"6.20.0", GetParam().pack, false});
    const auto good = inspect_kernel(*support::source_of(bytes));
    EXPECT_EQ(good->payload, GetParam().kind);
    EXPECT_EQ(good->soundness, GetParam().checks ? Soundness::Sound : Soundness::Unknown) << good->soundness_text;
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(bytes.size() / 2), 3000, std::uint8_t{0});
    // Where the format has no check of its own, damage inside stored text goes unnoticed: never "sound", though.
    const auto bad = inspect_kernel(*support::source_of(bytes))->soundness;
    if (GetParam().checks) EXPECT_EQ(bad, Soundness::Damaged);
    else EXPECT_NE(bad, Soundness::Sound);
}
INSTANTIATE_TEST_SUITE_P(All, KernelPayloads,
                         testing::Values(Packing{"gzip", forge::gzip, Compression::Gzip, true},
                                         Packing{"xz", forge::xz, Compression::Xz, true},
                                         Packing{"zstd", forge::zstd, Compression::Zstd, true},
                                         Packing{"bzip2", forge::bzip2, Compression::Bzip2, true},
                                         Packing{"lz4", forge::lz4_legacy, Compression::Lz4Legacy, false}),
                         support::by_name);

TEST(Kernel, CutAnywhereBehindItsHeaderIsCut) {
    const auto bytes = forge::make_kernel();
    for (const std::size_t keep : {std::size_t{3000}, bytes.size() / 2, bytes.size() - 100}) {
        const auto image = inspect_kernel(
            *support::source_of(Bytes(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(keep))));
        EXPECT_EQ(image->soundness, Soundness::Cut) << keep;
    }
    auto longer = bytes;
    longer.resize(longer.size() + 1472);  // an appended signature
    EXPECT_EQ(inspect_kernel(*support::source_of(longer))->soundness, Soundness::Sound);
    EXPECT_EQ(inspect_kernel(*support::source_of(Bytes(100)))->soundness, Soundness::Cut);
    EXPECT_FALSE(inspect_kernel(*support::source_of(Bytes(5000)))->boot_flag);
}

forge::Tree small_ramdisk() {
    forge::Tree tree;
    tree.file("/init", "#!/bin/sh\n", 0755)
        .file("/bin/busybox", forge::make_program(), 0755)
        .link("/bin/sh", "busybox")
        .link("/sbin", "bin");
    tree.file("/lib/modules/6.1.0/kernel/virtio-blk.ko.xz", Bytes(100))
        .file("/lib/modules/6.1.0/kernel/virtio_pci.ko", Bytes(50))
        .file("/zz", forge::noise(200000, 1));
    return tree;
}
Bytes early() {
    return forge::make_cpio(forge::Tree().file("/kernel/x86/microcode/GenuineIntel.bin", forge::noise(3000, 2)));
}

Bytes join(std::initializer_list<Bytes> parts) {
    Bytes out;
    for (const auto& p : parts) out.insert(out.end(), p.begin(), p.end());
    return out;
}
Ramdisk look(const Bytes& bytes) { return *inspect_ramdisk(*support::source_of(bytes, "rd")); }

class RamdiskPackings : public testing::TestWithParam<Packing> {};
TEST_P(RamdiskPackings, UnpackAlsoBehindAnEarlyArchive) {
    const auto archive = forge::make_cpio(small_ramdisk());
    const auto packed = GetParam().pack(archive);
    const auto rd = look(join({early(), packed}));
    EXPECT_FALSE(rd.damage) << rd.damage->text();
    ASSERT_EQ(rd.members.size(), 2U);
    EXPECT_EQ(rd.members[0].offset, 0U);
    // An archive that is not packed is over with the name of its last record; zeros fill the block.
    const auto over = [](const Bytes& bytes) {
        static constexpr std::string_view last = "TRAILER!!!";
        const auto at = std::search(bytes.begin(), bytes.end(), last.begin(), last.end());
        return static_cast<std::size_t>(at - bytes.begin()) + last.size() + 1;
    };
    EXPECT_EQ(rd.members[0].unpacked, over(early()));
    EXPECT_EQ(rd.members[0].files, 4U) << "three folders and one file";
    EXPECT_EQ(rd.members[1].offset, early().size());
    const bool plain = GetParam().kind == Compression::None;
    EXPECT_EQ(rd.members[1].length, plain ? over(archive) : packed.size());
    EXPECT_EQ(rd.members[1].unpacked, plain ? over(archive) : archive.size());
    EXPECT_FALSE(rd.members[1].early);
    EXPECT_TRUE(rd.members[0].early);
    EXPECT_EQ(rd.members[1].compression, GetParam().kind);
    EXPECT_EQ(rd.members[1].files, 12U);
    ASSERT_NE(rd.find("/init"), nullptr);
    EXPECT_EQ(rd.find("/init")->content, "#!/bin/sh\n");
    EXPECT_EQ(rd.find("/sbin/sh"), rd.find("bin/busybox"));
    EXPECT_EQ(rd.find("/sbin/nothing"), nullptr);
    EXPECT_TRUE(rd.has_module("virtio_blk"));
    EXPECT_EQ(rd.module_releases, std::vector<std::string>{"6.1.0"});
}
INSTANTIATE_TEST_SUITE_P(All, RamdiskPackings,
                         testing::Values(Packing{"plain", [](const Bytes& b) { return b; }, Compression::None, false},
                                         Packing{"gzip", forge::gzip, Compression::Gzip, true},
                                         Packing{"xz", forge::xz, Compression::Xz, true},
                                         Packing{"zstd", forge::zstd, Compression::Zstd, true},
                                         Packing{"bzip2", forge::bzip2, Compression::Bzip2, true},
                                         Packing{"lz4", forge::lz4_legacy, Compression::Lz4Legacy, false},
                                         Packing{"lzo", support::lzop, Compression::Lzop, false}),
                         support::by_name);

TEST(Ramdisk, ZerosBehindItAreHarmlessAndJunkIsToldAsTheKernelTellsIt) {
    const auto packed = forge::gzip(forge::make_cpio(small_ramdisk()));
    EXPECT_FALSE(look(join({packed, Bytes(1000)})).damage);
    const auto junk = look(join({packed, forge::to_bytes("junk junk")}));
    ASSERT_TRUE(junk.damage);
    EXPECT_EQ(junk.kernel_message, "Initramfs unpacking failed: junk within compressed archive");
    EXPECT_NE(junk.find("init"), nullptr);
    EXPECT_EQ(look(forge::to_bytes("no archive at all")).kernel_message,
              "Initramfs unpacking failed: invalid magic at start of compressed archive");
}

TEST(Ramdisk, AWrongSumBehindItLosesNothing) {
    const auto packed = forge::gzip(forge::make_cpio(small_ramdisk()));
    const auto sound = look(packed);
    for (const std::size_t from_the_end : {8U, 5U, 4U, 1U}) {
        auto changed = packed;
        changed[changed.size() - from_the_end] ^= 0x80U;
        const auto rd = look(changed);
        ASSERT_TRUE(rd.damage) << from_the_end;
        EXPECT_EQ(rd.damage->kind, ErrorKind::Checksum);
        EXPECT_EQ(rd.damage->what, from_the_end > 4 ? "the gzip data is damaged (incorrect data check)"
                                                    : "the gzip data is damaged (incorrect length check)");
        EXPECT_EQ(rd.kernel_message, "");
        ASSERT_EQ(rd.members.size(), 1U);
        EXPECT_EQ(rd.members[0].files, sound.members[0].files);
        EXPECT_EQ(rd.members[0].unpacked, sound.members[0].unpacked);
        ASSERT_NE(rd.find("zz"), nullptr);
        EXPECT_TRUE(rd.find("zz")->complete);
    }
}

TEST(Ramdisk, EveryCutIsNoticedAndWhatCameBeforeIsKept) {
    const auto archive = forge::make_cpio(small_ramdisk());
    const auto packed = forge::gzip(archive);
    for (std::size_t keep = 1; keep < packed.size(); keep += packed.size() / 37) {
        const auto rd = look(Bytes(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(keep)));
        EXPECT_TRUE(rd.damage) << keep;
    }
    const auto late = look(Bytes(packed.begin(), packed.end() - 3000));
    ASSERT_TRUE(late.damage);
    ASSERT_NE(late.find("init"), nullptr);
    EXPECT_TRUE(late.find("init")->complete);
    EXPECT_FALSE(late.find("zz")->complete);
    const auto plain = look(Bytes(archive.begin(), archive.begin() + 5000));
    EXPECT_TRUE(plain.damage);
}

TEST(Ramdisk, HostileHeadersAreBounded) {
    auto archive = forge::make_cpio(small_ramdisk());
    const auto hit = std::search(archive.begin(), archive.end(), std::begin("init"), std::begin("init") + 4);
    for (const char* field : {"FFFFFFFF", "zzzzzzzz"}) {
        auto bad = archive;
        std::copy_n(field, 8, bad.begin() + (hit - archive.begin()) - 110 + 6 + 6 * 8);  // file size
        EXPECT_TRUE(look(bad).damage);
        bad = archive;
        std::copy_n(field, 8, bad.begin() + (hit - archive.begin()) - 110 + 6 + 11 * 8);  // name size
        EXPECT_TRUE(look(bad).damage);
    }
    EXPECT_EQ(look(forge::to_bytes("070707 old format archive" + std::string(200, 'x'))).kernel_message,
              "Initramfs unpacking failed: incorrect cpio method used: use -H newc option");
}

forge::Tree programs() {
    forge::Tree t;
    t.file("/bin/prog", forge::make_program(), 0755)
        .file("/bin/plain", forge::make_program(), 0644)
        .link("/bin/link", "prog")
        .link("/bin/gone", "nowhere");
    t.file("/bin/script", "#!/bin/prog -x\n", 0755)
        .file("/bin/nested", "#! /bin/script\n", 0755)
        .file("/bin/lost", "#!/bin/zsh\n", 0755)
        .file("/bin/self", "#!/bin/self\n", 0755);
    t.file("/bin/text", "hello\n", 0755).directory("/bin/folder").file("/bin/none", Bytes{}, 0755);
    auto cut = forge::make_program();
    cut.resize(122);
    t.file("/bin/cut", cut, 0755);
    auto arm = forge::make_program();
    arm[18] = 183;
    t.file("/bin/arm", arm, 0755);
    return t;
}

struct Judged {
    const char* path;
    std::optional<Code> code;
};
class Programs : public testing::TestWithParam<Judged> {};
TEST_P(Programs, AreJudgedAsExecuteWould) {
    const auto image = forge::make_ext(programs(), {});
    const auto fs = open_file_system(memory_source(image, "d1p1", 1), Reader::Kernel);
    const auto judged = judge_executable(**fs, "d1p1", GetParam().path);
    EXPECT_EQ(judged.code, GetParam().code) << judged.why;
    EXPECT_EQ(judged.runs, !judged.code);
    if (!judged.runs) EXPECT_FALSE(judged.evidence.empty());
}
INSTANTIATE_TEST_SUITE_P(
    All, Programs,
    testing::Values(Judged{"/bin/prog", {}}, Judged{"/bin/link", {}}, Judged{"/bin/script", {}},
                    Judged{"/bin/nested", {}}, Judged{"/bin/plain", Code::ProgramNotExecutable},
                    Judged{"/bin/gone", Code::ProgramLinkDangling}, Judged{"/bin/absent", Code::ProgramMissing},
                    Judged{"/bin/lost", Code::ProgramInterpreterMissing},
                    Judged{"/bin/self", Code::ProgramInterpreterMissing}, Judged{"/bin/text", Code::ProgramFormat},
                    Judged{"/bin/none", Code::ProgramFormat}, Judged{"/bin/folder", Code::ProgramNotAFile},
                    Judged{"/bin/cut", Code::ProgramCut}, Judged{"/bin/arm", Code::ProgramArchitecture}));

TEST(CommandLines, GroupQuotesAndTakeTheLast) {
    const CommandLine line("ro root=/dev/sda1 x=\"a b\" root=UUID=1 single");
    EXPECT_EQ(line.value("root"), "UUID=1");
    EXPECT_EQ(line.value("x"), "a b");
    EXPECT_FALSE(line.value("roo"));
    EXPECT_TRUE(line.has("single"));
}

TEST(KernelFormats, KernelsOfOtherMachinesAreToldByTheirName) {
    const struct {
        std::size_t at;
        Bytes mark;
        const char* name;
    } cases[] = {{56, {'A', 'R', 'M', 0x64}, "an arm64 Image"},
                 {56, {'R', 'S', 'C', 0x05}, "a RISC-V Image"},
                 {36, {0x18, 0x28, 0x6F, 0x01}, "an ARM zImage"},
                 {0, {0x27, 0x05, 0x19, 0x56}, "a legacy U-Boot image"},
                 {0, {0xD0, 0x0D, 0xFE, 0xED}, "a flattened image tree"}};
    for (const auto& one : cases) {
        Bytes bytes(8192);
        std::ranges::copy(one.mark, bytes.begin() + static_cast<std::ptrdiff_t>(one.at));
        const auto image = inspect_kernel(*support::source_of(bytes));
        ASSERT_TRUE(image) << one.name;
        EXPECT_EQ(image->soundness, Soundness::Damaged) << one.name;
        EXPECT_EQ(image->soundness_text,
                  std::string("the file is ") + one.name + ": a kernel for another kind of machine");
        EXPECT_EQ(image->evidence.at(0).found, one.name);
        // The last byte of the mark decides.
        bytes[one.at + 3] ^= 1;
        EXPECT_EQ(inspect_kernel(*support::source_of(bytes))->soundness_text, "the file does not begin like a kernel");
        // A PC's own mark counts first.
        bytes[one.at + 3] ^= 1;
        bytes[0x1FE] = 0x55;
        bytes[0x1FF] = 0xAA;
        EXPECT_EQ(inspect_kernel(*support::source_of(bytes))->soundness_text,
                  "no set-up header where a kernel has one");
    }
}

/// A board's kernel may be packed as a whole; what that is made of counts.
TEST(KernelFormats, APackedKernelIsJudgedByWhatIsInside) {
    const auto image = forge::make_arm64_image("6.1.0-almhof-board");
    const auto of = [](const Bytes& bytes, Processor processor = Processor::Arm64) {
        auto out = inspect_kernel(*support::source_of(bytes, "kernel"), KernelEntry::Board, processor);
        EXPECT_TRUE(out);
        return *out;
    };
    const auto packed = of(forge::gzip(image));
    EXPECT_EQ(packed.soundness, Soundness::Sound);
    EXPECT_EQ(packed.soundness_text, "its gzip container unpacks, and its check matches");
    EXPECT_EQ(packed.processor, Processor::Arm64);
    EXPECT_EQ(packed.release, "6.1.0-almhof-board");
    EXPECT_EQ(of(forge::zstd(image)).soundness, Soundness::Unknown) << "no check over the whole is promised";
    // A byte of it is another one.
    auto damaged = forge::gzip(image);
    damaged[damaged.size() - 5] ^= 1U;
    const auto not_unpacked = of(damaged);
    EXPECT_EQ(not_unpacked.soundness, Soundness::Damaged);
    EXPECT_TRUE(not_unpacked.soundness_text.starts_with("the packed kernel cannot be unpacked: "))
        << not_unpacked.soundness_text;
    EXPECT_EQ(not_unpacked.file_size, damaged.size());
    EXPECT_EQ(not_unpacked.processor, Processor::Arm64);
    EXPECT_EQ(not_unpacked.payload, Compression::Gzip);
    EXPECT_EQ(not_unpacked.evidence.size(), 1U);
    // What carries no mark is not told on a board; on a PC it is no kernel.
    const Bytes nothing = forge::noise(9000, 4);
    const auto unknown = of(nothing);
    EXPECT_EQ(unknown.soundness, Soundness::Unknown);
    EXPECT_EQ(unknown.soundness_text, "it carries no mark by which it could be told what it is");
    EXPECT_EQ(unknown.evidence.at(0).expected, "a kernel for this board");
    EXPECT_EQ(unknown.evidence.at(0).found, "no mark that is known");
    EXPECT_EQ(of(nothing, Processor::X86).soundness, Soundness::Damaged);
}

/// One head for two processors: its third word's last byte tells them apart
/// (Documentation/riscv/boot-image-header.rst).
TEST(KernelFormats, AFlatImageTellsItsProcessor) {
    auto image = forge::make_arm64_image("6.1.0-almhof-board");
    const auto processor = [&](Processor asked) {
        return inspect_kernel(*support::source_of(image), KernelEntry::Board, asked)->processor;
    };
    EXPECT_EQ(processor(Processor::Arm64), Processor::Arm64);
    std::ranges::copy(Bytes{'R', 'S', 'C', 0x05}, image.begin() + 56);
    const auto riscv = inspect_kernel(*support::source_of(image), KernelEntry::Board, Processor::Riscv64);
    ASSERT_TRUE(riscv);
    EXPECT_EQ(riscv->processor, Processor::Riscv64);
    EXPECT_TRUE(riscv->entry64);
    EXPECT_EQ(riscv->release, "6.1.0-almhof-board");
}

/// The decoder in front of a packed ARM kernel carries the marks that it looks for, too.
TEST(KernelFormats, MarksInTheDecoderAreNoPackedKernel) {
    auto image = forge::make_zimage("6.1.0-almhof-armmp");
    const auto decoy = [&](std::size_t at, const Bytes& mark) {
        std::ranges::copy(mark, image.begin() + static_cast<std::ptrdiff_t>(at));
    };
    decoy(400, {0xFD, '7', 'z', 'X', 'Z', 0, 0, 4, 1, 2, 3, 4});
    decoy(900, {0xFD, '7', 'z', 'X', 'Z', 0, 0, 4, 0xE6, 0xD6, 0xB4, 0x47});  // the sum is right but for its last byte
    decoy(1400, {0x1F, 0x8B, 8, 0, 1, 2, 3});
    const auto seen = inspect_kernel(*support::source_of(image), KernelEntry::Board, Processor::Arm);
    ASSERT_TRUE(seen);
    EXPECT_EQ(seen->soundness, Soundness::Sound) << seen->soundness_text;
    EXPECT_EQ(seen->payload, Compression::Xz);
    EXPECT_EQ(seen->release, "6.1.0-almhof-armmp");
}

/// The text of a kernel's version may end with the file, and begin at its last byte.
TEST(Kernel, ItsVersionMayLieAtTheVeryEnd) {
    auto bytes = forge::make_kernel({"6.1.0-almhof"});
    const auto with_version_at = [&](std::size_t at) {
        forge::put16(bytes, 0x20E, static_cast<std::uint16_t>(at - 0x200));
        return inspect_kernel(*support::source_of(bytes))->version;
    };
    bytes.resize(60000);
    bytes.back() = '6';
    EXPECT_EQ(with_version_at(bytes.size() - 1), "6");
    EXPECT_EQ(with_version_at(bytes.size()), "");
    EXPECT_EQ(with_version_at(bytes.size() + 1), "");
    EXPECT_EQ(with_version_at(0x200), "") << "no pointer, no text";
}

/// Small files that steer a start are kept up to 256 KiB each.
TEST(Ramdisk, ContentsAreKeptUpToABound) {
    const auto kept = [](std::size_t size) {
        auto tree = small_ramdisk();
        tree.file("/etc/lvm/lvm.conf", Bytes(size, ' '));
        return look(forge::make_cpio(tree)).find("etc/lvm/lvm.conf")->content.size();
    };
    EXPECT_EQ(kept(262144), 262144U);
    EXPECT_EQ(kept(262145), 0U);
}

}  // namespace
