// SPDX-License-Identifier: MIT
// Conditions of units, each by itself: what an image decides, what it does not, and how several add up
// (systemd.unit(5)).
#include "system/units/conditions.hpp"
#include "support.hpp"

using namespace herberge;

namespace {

constexpr const char* yes = "yes";
constexpr const char* no = "no";
constexpr const char* open_ = "depends";

std::shared_ptr<const FileSystem> root() {
    static const auto out = [] {
        forge::Tree tree;
        tree.file("/etc/hostname", "inn\n").file("/etc/empty", "").file("/usr/bin/bell", "x", 0755);
        tree.link("/etc/alias", "hostname").link("/etc/dangling", "nowhere");
        tree.directory("/etc/none").file("/etc/rooms/one.conf", "x").file("/etc/rooms/two.rc", "x");
        tree.file("/etc/fstab", "LABEL=a /srv ext4 defaults 0 2\nLABEL=b / ext4 defaults 0 1\n");
        tree.directory("/srv").file("/srv/under", "x");
        tree.file("/etc/machine-id", "0123456789abcdef0123456789abcdef\n");
        forge::ExtOptions options;
        options.size = 2U << 20U;
        options.journal = false;
        auto fs = open_file_system(support::source_of(forge::make_ext(tree, options), "d1p1"), Reader::Kernel);
        EXPECT_TRUE(fs);
        return *fs;
    }();
    return out;
}

std::string answer(const std::vector<std::pair<std::string, std::string>>& lines, const std::string& words = {},
                   Processor processor = Processor::X86, std::string_view kind = "Condition",
                   std::string* by = nullptr) {
    Unit unit;
    for (const auto& [key, value] : lines) unit.settings.push_back({"Unit", key, value, "x", 1});
    const auto verdict = units::judge_conditions(*root(), CommandLine(words), unit, kind, processor);
    if (by != nullptr) *by = verdict.by != nullptr ? verdict.by->key + "=" + verdict.by->value : "";
    return !verdict.holds ? open_ : *verdict.holds ? yes : no;
}

/// The check of the root's file system: what the RAM disk has done, and whether the root may be written by then.
TEST(UnitConditions, WhatTheRamDiskHasDone) {
    Unit unit;
    unit.settings = {{"Unit", "ConditionPathIsReadWrite", "!/", "x", 1},
                     {"Unit", "ConditionPathExists", "!/run/initramfs/fsck-root", "x", 2}};
    const auto holds = [&](const char* words, std::optional<bool> checked) {
        return units::judge_conditions(*root(), CommandLine(words), unit, "Condition", Processor::X86, checked).holds;
    };
    EXPECT_EQ(holds("ro", false), std::nullopt) << "by then it may have been made writable";
    unit.ties = {{UnitTie::Before, "systemd-remount-fs.service", {}}};
    EXPECT_EQ(holds("ro", false), true);
    EXPECT_EQ(holds("rw ro", false), true);
    EXPECT_EQ(holds("ro", true), false);
    EXPECT_EQ(holds("ro", std::nullopt), std::nullopt);
    EXPECT_EQ(holds("ro rw", false), false);
    EXPECT_EQ(holds("quiet", false), std::nullopt);
    EXPECT_EQ(holds("quiet", true), false);
}

TEST(UnitConditions, OnePathAtATime) {
    const struct {
        const char* key;
        const char* value;
        const char* is;
    } rows[] = {
        {"PathExists", "/etc/hostname", yes},
        {"PathExists", "/etc/alias", yes},
        {"PathExists", "/etc/dangling", no},
        {"PathExists", "/etc/gone", no},
        {"PathExists", "!/etc/gone", yes},
        {"PathExists", "! /etc/gone", yes},
        // Not below a root that is mounted: a path that is none, what the machine makes, what another volume holds.
        {"PathExists", "etc/hostname", open_},
        {"PathExists", "/dev/sda", open_},
        {"PathExists", "/proc/cmdline", open_},
        {"PathExists", "/run/inn", open_},
        {"PathExists", "/srv/gone", open_},
        {"PathExists", "/srvx", no},
        {"PathIsDirectory", "/etc", yes},
        {"PathIsDirectory", "/etc/hostname", no},
        {"PathIsDirectory", "!/etc/hostname", yes},
        {"PathIsSymbolicLink", "/etc/alias", yes},
        {"PathIsSymbolicLink", "/etc/dangling", yes},
        {"PathIsSymbolicLink", "/etc/hostname", no},
        {"PathIsMountPoint", "/etc", open_},
        {"PathIsReadWrite", "/etc", open_},
        {"PathIsEncrypted", "/etc", open_},
        {"FileNotEmpty", "/etc/hostname", yes},
        {"FileNotEmpty", "/etc/empty", no},
        {"FileNotEmpty", "/etc", no},
        {"FileIsExecutable", "/usr/bin/bell", yes},
        {"FileIsExecutable", "/etc/hostname", no},
        {"FileIsExecutable", "/etc", no},
        {"DirectoryNotEmpty", "/etc", yes},
        {"DirectoryNotEmpty", "/etc/none", no},
        {"DirectoryNotEmpty", "/srv", open_},
        {"PathExistsGlob", "/etc/rooms/*.conf", yes},
        {"PathExistsGlob", "/etc/rooms/*.c?nf", yes},
        {"PathExistsGlob", "/etc/rooms/o*.conf", yes},
        {"PathExistsGlob", "/etc/rooms/*o*", yes},
        {"PathExistsGlob", "/etc/rooms/?.conf", no},
        {"PathExistsGlob", "/etc/rooms/*.conf.d", no},
        {"PathExistsGlob", "/etc/rooms/one.conf*", yes},
        {"PathExistsGlob", "/etc/none/*", no},
        {"PathExistsGlob", "/etc/gone/*", no},
        {"PathExistsGlob", "/e*", yes},
        {"PathExistsGlob", "/etc/*/one.conf", open_},
        {"PathExistsGlob", "/etc/rooms/[ot]*", open_},
        {"PathExistsGlob", "/srv/*", open_},
        {"FileSomethingNew", "/etc/hostname", open_},
    };
    for (const auto& row : rows)
        EXPECT_EQ(answer({{std::string("Condition") + row.key, row.value}}), row.is) << row.key << "=" << row.value;
}

TEST(UnitConditions, TheCommandLineTheProcessorAndTheMachine) {
    const std::string words = "root=/dev/sda1 ski lift=open";
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "ski"}}, words), yes);
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "lift"}}, words), yes);
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "lift=open"}}, words), yes);
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "lift=shut"}}, words), no);
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "lif"}}, words), no);
    EXPECT_EQ(answer({{"ConditionKernelCommandLine", "!sled"}}, words), yes);
    const struct {
        Processor processor;
        const char* name;
    } processors[] = {{Processor::X86, "x86-64"},
                      {Processor::Arm64, "arm64"},
                      {Processor::Arm, "arm"},
                      {Processor::Riscv64, "riscv64"}};
    for (const auto& own : processors) {
        for (const auto& other : processors)
            EXPECT_EQ(answer({{"ConditionArchitecture", other.name}}, "", own.processor),
                      own.name == other.name ? yes : no);
        EXPECT_EQ(answer({{"ConditionArchitecture", "native"}}, "", own.processor), yes);
    }
    EXPECT_EQ(answer({{"ConditionFirstBoot", "yes"}}), no);
    EXPECT_EQ(answer({{"ConditionFirstBoot", "no"}}), yes);
    EXPECT_EQ(answer({{"ConditionFirstBoot", "true"}}, "systemd.condition-first-boot=1"), yes);
    for (const char* machine : {"ConditionVirtualization", "ConditionACPower", "ConditionSecurity", "ConditionMemory"})
        EXPECT_EQ(answer({{machine, "x"}}), open_) << machine;
}

TEST(UnitConditions, SeveralTogether) {
    const std::pair<std::string, std::string> there = {"ConditionPathExists", "/etc/hostname"},
                                              gone = {"ConditionPathExists", "/etc/gone"},
                                              vm = {"ConditionVirtualization", "vm"};
    const auto any = [](std::pair<std::string, std::string> one) {
        one.second.insert(0, 1, '|');
        return one;
    };
    std::string by;
    EXPECT_EQ(answer({}), yes);
    EXPECT_EQ(answer({there, there}), yes);
    EXPECT_EQ(answer({there, gone}, "", Processor::X86, "Condition", &by), no);
    EXPECT_EQ(by, "ConditionPathExists=/etc/gone");
    EXPECT_EQ(answer({vm, gone}, "", Processor::X86, "Condition", &by), no) << "what does not hold decides";
    EXPECT_EQ(by, "ConditionPathExists=/etc/gone");
    EXPECT_EQ(answer({there, vm}, "", Processor::X86, "Condition", &by), open_);
    EXPECT_EQ(by, "ConditionVirtualization=vm");
    // One of those with a bar is enough, besides all without.
    EXPECT_EQ(answer({any(gone), any(there)}), yes);
    EXPECT_EQ(answer({any(gone), any(gone)}), no);
    EXPECT_EQ(answer({any(gone), any(vm)}), open_);
    EXPECT_EQ(answer({any(there), gone}), no);
    EXPECT_EQ(answer({any(there), there}), yes);
    // An empty one takes back what came before; other kinds and sections do not count.
    EXPECT_EQ(answer({gone, {"ConditionPathExists", ""}}), yes);
    EXPECT_EQ(answer({gone, {"ConditionPathExists", ""}, vm}), open_);
    EXPECT_EQ(answer({{"AssertPathExists", "/etc/gone"}}), yes);
    EXPECT_EQ(answer({{"AssertPathExists", "/etc/gone"}}, "", Processor::X86, "Assert"), no);
}

}  // namespace
