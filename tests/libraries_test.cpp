// SPDX-License-Identifier: MIT
// Dynamic programs: what their loader would find, and what a person sees when it does not.
#include "support.hpp"

using namespace herberge;

namespace {

constexpr const char* loader = "/lib64/ld-linux-x86-64.so.2";

forge::Bytes library(const std::string& soname, std::vector<std::string> needed = {}, std::uint16_t machine = 62) {
    return forge::make_dynamic({"", std::move(needed), soname, "", "", machine});
}

/// A root whose init is a systemd with a shared library of its own, as distributions build it.
forge::Tree systemd_root() {
    forge::Tree t;
    t.file("/usr/lib/systemd/systemd",
           forge::make_dynamic(
               {loader, {"libsystemd-shared-1.so", "libc.so.6"}, "", "", "/usr/lib/x86_64-linux-gnu/systemd"}),
           0755);
    t.link("/sbin/init", "../usr/lib/systemd/systemd").link("/lib", "usr/lib").link("/lib64", "usr/lib64");
    t.file("/usr/lib64/ld-linux-x86-64.so.2", library("ld-linux-x86-64.so.2"), 0755);
    t.file("/usr/lib/x86_64-linux-gnu/libc.so.6", library("libc.so.6", {"ld-linux-x86-64.so.2"}), 0755);
    t.file("/usr/lib/x86_64-linux-gnu/libm.so.6", library("libm.so.6", {"libc.so.6"}));
    t.file("/usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so",
           library("libsystemd-shared-1.so", {"libm.so.6", "libc.so.6"}));
    t.file("/usr/lib/systemd/system/default.target", "[Unit]\n");
    for (const char* folder : {"/dev", "/proc", "/run", "/sys"}) t.directory(folder);
    return t;
}

struct Root {
    explicit Root(const forge::Tree& tree) {
        forge::ExtOptions options;
        options.size = 4U << 20U;
        options.journal = false;
        forge::DiskSpec spec;
        spec.size = 8U << 20U;
        spec.partitions.push_back({2048, forge::make_ext(tree, options), 0x83, false});
        machine = support::machine_of(forge::make_disk(spec));
    }
    [[nodiscard]] const Volume& volume() const { return *machine.disks[0].volumes[0]; }
    [[nodiscard]] InitChoice init() const { return judge_init(volume(), CommandLine(""), nullptr); }
    Machine machine;
};

TEST(Libraries, AWholeSystemStarts) {
    const Root root(systemd_root());
    const auto init = root.init();
    EXPECT_EQ(init.result.state, State::Holds) << init.result.text;
    EXPECT_EQ(init.flavour, "systemd");
}

struct Loss {
    const char* name;
    std::function<void(forge::Tree&)> change;
    const char* says;     ///< of the verdict's text
    const char* library;  ///< of the screen; empty: it starts all the same
    const char* place;    ///< of the evidence
};
class Losses : public testing::TestWithParam<Loss> {};
TEST_P(Losses, PanicAtInit) {
    auto tree = systemd_root();
    GetParam().change(tree);
    const auto init = Root(tree).init();
    if (*GetParam().library == '\0') {
        EXPECT_EQ(init.result.state, State::Holds) << init.result.text;
        return;
    }
    EXPECT_EQ(init.result.state, State::Breaks);
    EXPECT_NE(init.result.text.find(GetParam().says), std::string::npos) << init.result.text;
    EXPECT_EQ(init.result.findings.at(0).symptom,
              std::string("/sbin/init: error while loading shared libraries: ") + GetParam().library +
                  "\n---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00007f00 ]---");
    ASSERT_FALSE(init.result.findings.empty());
    EXPECT_EQ(init.result.findings[0].code, Code::ProgramLibraryMissing);
    ASSERT_FALSE(init.result.evidence.empty());
    EXPECT_EQ(init.result.evidence.back().place, std::string("d1p1:") + GetParam().place);
}
const std::string usr = "/usr/lib/x86_64-linux-gnu/";
INSTANTIATE_TEST_SUITE_P(
    All, Losses,
    testing::Values(
        Loss{"LibcGone", [](auto& files) { files.remove(usr + "libc.so.6"); }, "needs libc.so.6: cannot open",
             "libc.so.6: cannot open shared object file: No such file or directory", "/usr/lib/systemd/systemd"},
        Loss{"OwnLibraryGone", [](auto& files) { files.remove(usr + "systemd/libsystemd-shared-1.so"); },
             "needs libsystemd-shared-1.so",
             "libsystemd-shared-1.so: cannot open shared object file: No such file or directory",
             "/usr/lib/systemd/systemd"},
        Loss{"LibraryOfALibraryGone", [](auto& files) { files.remove(usr + "libm.so.6"); },
             "needs libm.so.6 (for /usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so)",
             "libm.so.6: cannot open shared object file: No such file or directory",
             "/usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so"},
        Loss{"Empty", [](auto& files) { files.file(usr + "libc.so.6", ""); }, "file too short",
             "libc.so.6: file too short", "/usr/lib/x86_64-linux-gnu/libc.so.6"},
        Loss{"Garbage", [](auto& files) { files.file(usr + "libc.so.6", forge::noise(5000, 4)); }, "invalid ELF header",
             "libc.so.6: invalid ELF header", "/usr/lib/x86_64-linux-gnu/libc.so.6"},
        Loss{"OtherProcessor", [](auto& files) { files.file(usr + "libc.so.6", library("libc.so.6", {}, 183)); },
             "needs libc.so.6", "libc.so.6: cannot open shared object file: No such file or directory",
             "/usr/lib/x86_64-linux-gnu/libc.so.6"},
        Loss{"LinkToNothing", [](auto& files) { files.remove(usr + "libm.so.6").link(usr + "libm.so.6", "libm-2.so"); },
             "needs libm.so.6", "libm.so.6: cannot open shared object file: No such file or directory",
             "/usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so"},
        // What another directory of the search makes good.
        Loss{"OtherProcessorFirst",
             [](auto& files) {
                 files.file(usr + "libm.so.6", library("libm.so.6", {}, 183));
                 files.file("/usr/lib64/libm.so.6", library("libm.so.6"));
             },
             "", "", ""},
        Loss{"InTheCacheOnly",
             [](auto& files) {
                 files.remove(usr + "libm.so.6").file("/opt/inn/libm.so.6", library("libm.so.6"));
                 files.file("/etc/ld.so.cache", forge::make_library_cache({{"libz.so.1", "/nowhere/libz.so.1"},
                                                                           {"libm.so.6", "/opt/inn/libm.so.6"}}));
             },
             "", "", ""},
        Loss{"FarAway",
             [](auto& files) { files.remove(usr + "libm.so.6").file("/opt/inn/libm.so.6", library("libm.so.6")); },
             "needs libm.so.6", "libm.so.6: cannot open shared object file: No such file or directory",
             "/usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so"},
        Loss{
            "ByOriginAndRpath",
            [](auto& files) {
                files.remove(usr + "libm.so.6").file("/usr/lib/systemd/more/libm.so.6", library("libm.so.6"));
                // RPATH is inherited by what the program loads; RUNPATH is not.
                files.file(
                    "/usr/lib/systemd/systemd",
                    forge::make_dynamic(
                        {loader, {"libsystemd-shared-1.so"}, "", "$ORIGIN/more:/usr/lib/x86_64-linux-gnu/systemd", ""}),
                    0755);
            },
            "", "", ""},
        Loss{
            "RunpathIsNotInherited",
            [](auto& files) {
                files.remove(usr + "libm.so.6").file("/usr/lib/systemd/more/libm.so.6", library("libm.so.6"));
                files.file(
                    "/usr/lib/systemd/systemd",
                    forge::make_dynamic(
                        {loader, {"libsystemd-shared-1.so"}, "", "", "$ORIGIN/more:/usr/lib/x86_64-linux-gnu/systemd"}),
                    0755);
            },
            "needs libm.so.6", "libm.so.6: cannot open shared object file: No such file or directory",
            "/usr/lib/x86_64-linux-gnu/systemd/libsystemd-shared-1.so"}),
    support::by_name);

TEST(Libraries, ACircleOfLibrariesEnds) {
    auto tree = systemd_root();
    tree.file(usr + "libm.so.6", library("libm.so.6", {"libc.so.6", "libm.so.6"}));
    tree.file(usr + "libc.so.6", library("libc.so.6", {"libm.so.6"}));
    EXPECT_EQ(Root(tree).init().result.state, State::Holds);
}

TEST(Libraries, AProgramThatIsItsOwnInterpreterEnds) {
    forge::Tree t;
    t.file("/sbin/init", forge::make_dynamic({"/sbin/init", {}, "", "", ""}), 0755);
    EXPECT_EQ(Root(t).init().result.state, State::Holds);
    forge::Tree two;
    two.file("/sbin/init", forge::make_dynamic({"/sbin/other", {}, "", "", ""}), 0755);
    two.file("/sbin/other", forge::make_dynamic({"/sbin/init", {}, "", "", ""}), 0755);
    EXPECT_EQ(Root(two).init().result.state, State::Holds);
    // Scripts that interpret each other: the kernel gives up.
    forge::Tree scripts;
    scripts.file("/sbin/init", "#!/sbin/other\n", 0755).file("/sbin/other", "#!/sbin/init\n", 0755);
    EXPECT_EQ(Root(scripts).init().result.state, State::Breaks);
}

TEST(Libraries, MuslAnswersForItsOwnNames) {
    forge::Tree t;
    t.file("/sbin/init",
           forge::make_dynamic(
               {"/lib/ld-musl-x86_64.so.1", {"libc.musl-x86_64.so.1", "libpthread.so.0", "libinn.so.1"}, "", "", ""}),
           0755);
    t.file("/lib/ld-musl-x86_64.so.1", library("libc.so"), 0755);
    EXPECT_NE(Root(t).init().result.text.find("needs libinn.so.1"), std::string::npos);
    t.file("/usr/local/lib/libinn.so.1", library("libinn.so.1"));
    EXPECT_EQ(Root(t).init().result.state, State::Holds);
    t.file("/etc/ld-musl-x86_64.path", "/opt/lib\n/lib\n");
    EXPECT_NE(Root(t).init().result.text.find("needs libinn.so.1"), std::string::npos)
        << "the list replaces the usual directories";
}

/// The loader reads behind the file's end, and the program is killed without a word.
TEST(Libraries, OneThatIsCutKillsTheProgram) {
    auto tree = systemd_root();
    auto& bytes = tree.at(usr + "libc.so.6").content;
    bytes.resize(bytes.size() - 16);
    const auto init = Root(tree).init();
    ASSERT_EQ(init.result.state, State::Breaks) << init.result.text;
    EXPECT_EQ(init.result.findings.at(0).code, Code::ProgramLibraryMissing);
    EXPECT_EQ(init.result.findings[0].symptom,
              "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000007 ]---");
    EXPECT_EQ(init.result.evidence.back().place, "d1p1:/usr/lib/x86_64-linux-gnu/libc.so.6");
}

TEST(Libraries, TheShellOfAnInitScriptCounts) {
    auto tree = systemd_root();
    tree.remove("/sbin/init")
        .file("/sbin/init", "#!/bin/sh\n", 0755)
        .file("/bin/sh", forge::make_dynamic({loader, {"libc.so.6"}, "", "", ""}), 0755);
    EXPECT_EQ(Root(tree).init().result.state, State::Holds);
    EXPECT_EQ(Root(tree).init().flavour, "script");
    tree.remove(usr + "libc.so.6");
    const auto init = Root(tree).init();
    EXPECT_EQ(init.result.state, State::Breaks);
    EXPECT_NE(init.result.text.find("needs libc.so.6"), std::string::npos) << init.result.text;
}

// --- what is tried when there is no init ----------------------------------------------------------------------------

TEST(Init, AShellTakesTheSystemsPlace) {
    Ramdisk ramdisk;
    ramdisk.builder = "initramfs-tools";
    forge::Tree t;
    t.file("/bin/sh", forge::make_program(), 0755);
    const Root root(t);
    const auto init = judge_init(root.volume(), CommandLine(""), &ramdisk);
    EXPECT_EQ(init.result.state, State::Breaks);
    EXPECT_EQ(init.result.findings.at(0).symptom, "Target filesystem doesn't have requested /sbin/init.\n# ");
    EXPECT_NE(init.result.text.find("a shell, /bin/sh, is started in its place"), std::string::npos);
    EXPECT_EQ(judge_init(root.volume(), CommandLine(""), nullptr).result.findings.at(0).symptom, "# ")
        << "the kernel has the same list";
    ramdisk.builder = "dracut";
    EXPECT_NE(judge_init(root.volume(), CommandLine(""), &ramdisk).result.findings.at(0).symptom, "# ");
    forge::Tree bare;
    bare.file("/etc/fstab", "");
    ramdisk.builder = "initramfs-tools";
    EXPECT_NE(judge_init(Root(bare).volume(), CommandLine(""), &ramdisk)
                  .result.findings.at(0)
                  .symptom.find("No init found. Try passing init= bootarg."),
              std::string::npos);
}

// --- in the RAM disk ------------------------------------------------------------------------------------------------

Claim judged(const forge::Tree& tree) {
    const auto ramdisk = inspect_ramdisk(*support::source_of(forge::gzip(forge::make_cpio(tree))));
    EXPECT_TRUE(ramdisk);
    return judge_ramdisk(*ramdisk, {}, CommandLine(""));
}

TEST(RamdiskLibraries, AreFollowedForItsInitAndItsShell) {
    forge::Tree t;
    t.file("/init", "#!/bin/sh\n", 0755)
        .file("/usr/bin/busybox", forge::make_dynamic({loader, {"libc.so.6"}, "", "", ""}), 0755);
    t.link("/bin", "usr/bin").link("/usr/bin/sh", "busybox").link("/lib64", "usr/lib64").link("/lib", "usr/lib");
    t.file("/usr/lib64/ld-linux-x86-64.so.2", library("ld-linux-x86-64.so.2"), 0755);
    t.file(usr + "libc.so.6", library("libc.so.6"));
    EXPECT_EQ(judged(t).state, State::Holds) << judged(t).text;
    auto without = t;
    without.remove(usr + "libc.so.6");
    auto result = judged(without);
    EXPECT_EQ(result.state, State::Breaks);
    EXPECT_EQ(result.findings.at(0).code, Code::RamdiskLibraryMissing);
    EXPECT_EQ(result.findings.at(0).symptom,
              "/bin/sh: error while loading shared libraries: libc.so.6: cannot open shared object file: No such file "
              "or directory\n"
              "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00007f00 ]---");
    without = t;
    without.file(usr + "libc.so.6", "");
    EXPECT_NE(judged(without).findings.at(0).symptom.find("libc.so.6: file too short"), std::string::npos);
    without = t;
    without.remove("/usr/lib64/ld-linux-x86-64.so.2");
    result = judged(without);
    EXPECT_EQ(result.findings.at(0).code, Code::RamdiskInitUnusable);
    EXPECT_NE(result.findings.at(0).symptom.find("Failed to execute /init (error -2)"), std::string::npos);
}

TEST(LibraryCache, DamagedOnesGiveWhatTheyHave) {
    auto cache = forge::make_library_cache({{"libm.so.6", "/lib/libm.so.6"}});
    for (std::size_t cut = 0; cut < cache.size(); ++cut) {
        forge::Tree t = systemd_root();
        if (cut % 7 != 0) continue;
        t.file("/etc/ld.so.cache", forge::Bytes(cache.begin(), cache.begin() + static_cast<std::ptrdiff_t>(cut)));
        EXPECT_EQ(Root(t).init().result.state, State::Holds) << cut;
    }
    forge::put32(cache, 20, 0xFFFFFFFF);
    forge::Tree t = systemd_root();
    t.file("/etc/ld.so.cache", cache);
    EXPECT_EQ(Root(t).init().result.state, State::Holds);
}

// --- sectors of zeros in code ---------------------------------------------------------------------------------------

/// A program by hand (System V ABI, chapters 4 and 5): headers in a segment of their own, code at 1000h and data at
/// 3000h, of 4 KiB each.
forge::Bytes program_with_code(std::uint32_t flags = 5) {
    forge::Bytes out(0x4000, 0);
    const forge::Bytes ident{0x7F, 'E', 'L', 'F', 2, 1, 1};
    std::copy(ident.begin(), ident.end(), out.begin());
    forge::put16(out, 16, 2);
    forge::put16(out, 18, 62);
    forge::put32(out, 20, 1);
    forge::put64(out, 24, 0x401000);
    forge::put64(out, 32, 64);
    forge::put16(out, 52, 64);
    forge::put16(out, 54, 56);
    forge::put16(out, 56, 3);
    const auto segment = [&](std::size_t number, std::uint32_t what, std::uint64_t offset, std::uint64_t length) {
        const std::size_t at = 64 + number * 56;
        forge::put32(out, at, 1);
        forge::put32(out, at + 4, what);
        forge::put64(out, at + 8, offset);
        forge::put64(out, at + 16, 0x400000 + offset);
        forge::put64(out, at + 32, length);
        forge::put64(out, at + 40, length);
    };
    segment(0, 4, 0, 0x200);
    segment(1, flags, 0x1000, 0x1000);
    segment(2, 6, 0x3000, 0x1000);
    std::fill(out.begin() + 0x1000, out.begin() + 0x2000, std::uint8_t{0x90});
    return out;
}
forge::Bytes zeroed(forge::Bytes program, std::size_t at, std::size_t length) {
    std::fill_n(program.begin() + static_cast<std::ptrdiff_t>(at), length, std::uint8_t{0});
    return program;
}
InitChoice started(const forge::Bytes& program) {
    auto tree = systemd_root();
    tree.file("/usr/lib/systemd/systemd", program, 0755);
    return Root(tree).init();
}

TEST(Zeros, ASectorOfThemInCodeIsNotCalledSound) {
    EXPECT_EQ(started(program_with_code()).result.state, State::Holds);
    for (const std::size_t at : {0x1000U, 0x1400U, 0x1E00U}) {
        const auto init = started(zeroed(program_with_code(), at, 512));
        EXPECT_EQ(init.result.state, State::Unknown) << at;
        EXPECT_NE(init.result.text.find("; but a sector of the code of /usr/lib/systemd/systemd is zeros, from byte " +
                                        std::to_string(at) + " on, where it may die"),
                  std::string::npos)
            << init.result.text;
        const auto& evidence = init.result.evidence.back();
        EXPECT_EQ(evidence.expected, "code");
        EXPECT_EQ(evidence.found, "zeros");
        ASSERT_TRUE(evidence.range);
        EXPECT_EQ(evidence.range->length, 512U);
        EXPECT_TRUE(init.program.runs) << "it is started all the same";
    }
}

TEST(Zeros, LessThanASectorAndWhatIsNoCodeDoNotMatter) {
    // A byte less at either end; two halves of two sectors; data; code that is written.
    EXPECT_EQ(started(zeroed(program_with_code(), 0x1401, 511)).result.state, State::Holds);
    EXPECT_EQ(started(zeroed(program_with_code(), 0x1400, 511)).result.state, State::Holds);
    EXPECT_EQ(started(zeroed(program_with_code(), 0x1500, 512)).result.state, State::Holds);
    EXPECT_EQ(started(zeroed(program_with_code(), 0x3000, 0x1000)).result.state, State::Holds);
    EXPECT_EQ(started(zeroed(program_with_code(7), 0x1400, 512)).result.state, State::Holds);
    EXPECT_EQ(started(zeroed(program_with_code(4), 0x1400, 512)).result.state, State::Holds);
}

TEST(Zeros, InALibraryAndInWhatLinksIt) {
    for (const char* path : {"/usr/lib64/ld-linux-x86-64.so.2"}) {
        auto tree = systemd_root();
        tree.file(path, zeroed(program_with_code(), 0x1400, 512), 0755);
        const auto init = Root(tree).init();
        EXPECT_EQ(init.result.state, State::Unknown) << init.result.text;
        EXPECT_NE(init.result.text.find("is zeros, from byte 5120 on"), std::string::npos) << init.result.text;
    }
}

}  // namespace
