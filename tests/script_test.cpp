// SPDX-License-Identifier: MIT
// GRUB's configuration language, driven through the menus it makes.
#include "support.hpp"

using namespace herberge;

namespace {

/// A machine with one volume that holds the given configuration and a few files to name.
struct Config {
    Machine machine;
    GrubRun run;
    explicit Config(const std::string& text, const forge::Tree& more = {}) {
        forge::Tree tree = more;
        tree.file("/boot/grub/grub.cfg", text);
        tree.file("/vmlinuz", forge::make_kernel()).file("/initrd", "x").file("/extra.cpio", "y");
        forge::ExtOptions options;
        options.size = 6U << 20U;
        options.uuid = forge::uuid_from("5c819700-0001-4a01-8a01-000000000001");
        options.label = "menu";
        forge::DiskSpec disk;
        disk.size = 8U << 20U;
        disk.partitions.push_back({2048, forge::make_ext(tree, options), 0x83, true});
        machine = support::machine_of(forge::make_disk(disk));
        run = read_grub_config(machine, *machine.at("d1p1"), "/boot/grub/grub.cfg");
    }
    [[nodiscard]] std::vector<std::string> titles() const {
        std::vector<std::string> out;
        for (const auto& e : run.menu.entries) out.push_back(e.title);
        return out;
    }
};

/// Scripts whose outcome is the list of entry titles.
struct Script {
    const char* name;
    const char* text;
    std::vector<std::string> titles;
};
class Scripts : public testing::TestWithParam<Script> {};
TEST_P(Scripts, MakeTheseEntries) { EXPECT_EQ(Config(GetParam().text).titles(), GetParam().titles); }

#define E(title) "menuentry " title " { true; }\n"

INSTANTIATE_TEST_SUITE_P(
    Language, Scripts,
    testing::Values(
        Script{"Quoting",
               E("'a b'") E("\"c $undefined d\"") E("e\\ f") E("'$x'") "x='g  h'\n" E("\"$x\"") E("i'j'\"k\"")
                   E("\"l\\\"m\\$n\\o\""),
               {"a b", "c  d", "e f", "$x", "g  h", "ijk", "l\"m$n\\o"}},
        Script{"Splitting",
               "x='one two'\nfor i in $x \"$x\" ; do menuentry \"<$i>\" { true; }\ndone\n",
               {"<one>", "<two>", "<one two>"}},
        Script{"EmptyVariableVanishes",
               "for i in $nothing a \"$nothing\"; do menuentry \"<$i>\" { true; }; done\n",
               {"<a>", "<>"}},
        Script{"IfElse",
               "if [ a = b ]; then\n" E("no") "elif [ -z \"\" ] ; then\n" E("yes") "else\n" E("never") "fi\n",
               {"yes"}},
        Script{"Negation", "if ! false; then\n" E("a") "fi\nif ! [ x != x ] ; then\n" E("b") "fi\n", {"a", "b"}},
        Script{"Numbers",
               "if [ 10 -gt 9 ]; then\n" E("a") "fi\nif [ 2 -lt 1 -o 3 -eq 3 ]; then\n" E(
                   "b") "fi\nif [ 1 -eq 1 -a 1 -eq 2 ]; then\n" E("c") "fi\n",
               {"a", "b"}},
        Script{"Files",
               "if [ -f /vmlinuz ]; then\n" E("f") "fi\nif [ -d /boot ]; then\n" E(
                   "d") "fi\nif [ -e /nothing ]; then\n" E("e") "fi\nif [ -s /initrd ]; then\n" E("s") "fi\n",
               {"f", "d", "s"}},
        Script{"WhileAndShift",
               "function each {\n  while [ $# -gt 0 ]; do\n    menuentry \"$1\" { true; }\n    shift\n  done\n}\neach "
               "a 'b c' d\n",
               {"a", "b c", "d"}},
        Script{"Until", "n=\nuntil [ \"$n\" = xxx ]; do n=x$n; menuentry $n { true; }; done\n", {"x", "xx", "xxx"}},
        Script{"BreakContinue",
               "for i in 1 2 3 4; do\nif [ $i = 2 ]; then continue; fi\nif [ $i = 4 ]; then break; fi\nmenuentry $i { "
               "true; }\ndone\n",
               {"1", "3"}},
        Script{"FunctionStatus", "function f { \n return 3\n}\nf\nmenuentry \"$?\" { true; }\n", {"3"}},
        Script{"Braces", "x=ab\n" E("${x}c$x-d"), {"abcab-d"}},
        Script{"Continuation", "menuentry a\\\nb {\n true\n}\nmenuentry 'c\nd' { true; }\n", {"ab", "c\nd"}},
        Script{"Comments", "# no\n" E("a#b") "menuentry c { true; } # tail\n", {"a#b", "c"}},
        Script{"KeywordsAsWords", "menuentry if { echo then fi do done; }\n", {"if"}},
        Script{"SourceReads", "source /boot/grub/grub.cfg.d\n" E("after"), {"after"}},
        Script{"OneLine", "if true; then menuentry a { true; }; fi; menuentry b { true; }\n", {"a", "b"}}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(
    Errors, Scripts,
    testing::Values(
        // The lines taken by the failing parse are lost, what follows is read afresh.
        Script{"LostFi", "if true; then\n" E("in") "function f {\n true\n}\n" E("after"), {"after"}},
        Script{"StrayBraceInEntry", "menuentry a { }{\n true\n}\n" E("b"), {"b"}},
        Script{"EmptyBlockIsAnError", "menuentry a { }\n" E("b"), {"b"}},
        Script{"PipeIsAnError", "echo a | echo b\n" E("b"), {"b"}}, Script{"StrayClose", "}\n" E("b"), {"b"}},
        Script{"UnclosedSwallowsTheRest", "menuentry a {\n true\nmenuentry b { true; }\n", {}},
        Script{"UnclosedQuoteSwallowsTheRest",
               E("a") "menuentry 'b { true; }\n"
                      "menuentry c { true; }\n",
               {"a"}},
        Script{"UnknownCommandGoesOn", "frobnicate\n" E("b"), {"b"}},
        Script{"PatternThatFits", "if regexp '^a(.*)c$' abc ; then\n" E("a") "else\n" E("b") "fi\n", {"a"}},
        Script{"PatternThatFitsNot", "if regexp '^b' abc ; then\n" E("a") "else\n" E("b") "fi\n", {"b"}},
        Script{"PatternThatSets",
               "regexp --set=2:n '(x)(.)' x1\nregexp --set m '(z.)' z2\nif [ $n$m = 1z2 ]; then\n" E("a") "fi\n",
               {"a"}},
        Script{"PatternWithoutText", "if regexp a ; then\n" E("a") "else\n" E("b") "fi\n", {"b"}},
        Script{"PatternThatIsNotFollowedEndsIt", E("a") "if regexp '(a)\\1' aa ; then\n" E("b") "fi\n" E("c"), {"a"}},
        Script{"PatternThatIsNoneIsAnError", E("a") "if regexp '(' a ; then\n" E("b") "fi\n" E("c"), {"a", "c"}},
        Script{"MissingBracketIsNotMissed", "if [ a = a ; then\n" E("a") "else\n" E("b") "fi\n", {"a"}}),
    support::by_name);

TEST(Scripts, SyntaxErrorsAreToldWithTheirLine) {
    const Config config("set a=1\nmenuentry x {\n  true\n  }}\nmenuentry y { true; }\n");
    EXPECT_EQ(config.titles(), std::vector<std::string>{"y"});
    ASSERT_FALSE(config.run.menu.messages.empty());
    EXPECT_EQ(config.run.menu.messages[0].line, 4);
    EXPECT_EQ(config.run.menu.messages[0].text, "error: syntax error.");
}

TEST(Scripts, EndlessOnesAreGivenUp) {
    for (const char* text : {"while true; do x=1; done\n", "function f {\n f\n}\nf\n", "source /boot/grub/grub.cfg\n",
                             "until false; do for i in 1 2 3; do true; done; done\n"}) {
        const Config config(text);
        EXPECT_TRUE(config.run.stop) << text;
    }
}

/// GRUB would do them all, and its menu comes when it has: nothing is said of what is not followed.
TEST(Scripts, WhatIsTooLongIsNotTold) {
    const auto checked = [](const std::string& from, const std::string& to) {
        auto desk = demo::front_desk();
        for (const char* name : {"true", "test"})
            desk.root.file(std::string("/boot/grub/i386-pc/") + name + ".mod",
                           forge::make_grub_module({name, {}, {}, {}}));
        support::edit(desk.root, "/boot/grub/i386-pc/command.lst", "test: test\n", "test: test\ntrue: true\n");
        support::edit(desk.root, "/boot/grub/grub.cfg", from, to);
        return support::Checked(desk.build());
    };
    const std::string untold = "the configuration runs on for longer than is followed, perhaps without end";
    std::string words;
    for (int i = 0; i < 5001; ++i) words += " e";
    const std::string many = "for i in" + words + "; do menuentry $i { true; }; done\n";
    for (const auto& text : {std::string("while true; do x=1; done\n"), many}) {
        const auto given_up = checked("set timeout=3", text + "set timeout=3");
        EXPECT_EQ(given_up.stage(), "unknown");
        const auto& rung = given_up.system().at(Stage::Configuration);
        EXPECT_EQ(rung.state, State::Unknown);
        EXPECT_EQ(rung.text, untold);
        EXPECT_EQ(rung.evidence.at(0).place, "d1p1:/boot/grub/grub.cfg");
        EXPECT_EQ(given_up.system().at(Stage::Loader).state, State::Holds);
        EXPECT_EQ(given_up.system().symptom, "");
    }
    // An entry that does not end: the others are followed only as far as that is the default.
    const auto endless = checked("\tlinux /boot", "\twhile true; do x=1; done\n\tlinux /boot");
    EXPECT_EQ(endless.stage(), "unknown");
    EXPECT_EQ(endless.system().at(Stage::Entry).state, State::Unknown);
    EXPECT_EQ(endless.system().at(Stage::Entry).text,
              "what “Almhof front desk” starts cannot be looked at: it may be this system");
    EXPECT_EQ(endless.verdict.menus.at(0).entries.at(0).unread, "its commands run on for longer than is followed");
    EXPECT_EQ(endless.system().at(Stage::Configuration).state, State::Holds);
}

/// So many entries are tried, and the one that starts by itself.
TEST(Scripts, TheDefaultIsTriedWhereverItStands) {
    const auto menu = [](int count, int chosen) {
        std::string text = fmt::format("set default={}\n", chosen);
        for (int i = 0; i < count; ++i) text += fmt::format("menuentry e{} {{ linux /vmlinuz n={} ; }}\n", i, i);
        return Config(text).run.menu;
    };
    const auto all = menu(500, 499);
    ASSERT_EQ(all.entries.size(), 500U);
    EXPECT_TRUE(std::ranges::all_of(all.entries, [](const MenuEntry& e) { return e.unread.empty(); }));
    const auto more = menu(502, 501);
    ASSERT_EQ(more.entries.size(), 502U);
    EXPECT_EQ(more.entries[499].arguments, "n=499");
    EXPECT_EQ(more.entries[500].unread, "it is none of the 500 entries that are tried");
    EXPECT_FALSE(more.entries[500].stop);
    EXPECT_EQ(more.entries[501].arguments, "n=501");
    ASSERT_NE(more.unattended(), nullptr);
    EXPECT_EQ(more.unattended()->title, "e501");
}

TEST(Environment, BlockIsLoadedWithItsEscapes) {
    forge::Tree tree;
    std::string block = "# GRUB Environment Block\nsaved_entry=back\\\\door\nother=1\n";
    block.resize(1024, '#');
    tree.file("/boot/grub/grubenv", block);
    const Config config(
        "load_env\nset default=\"${saved_entry}\"\n" E("front") E("'back\\door'") "load_env other\n" E("$other"), tree);
    EXPECT_EQ(config.titles(), (std::vector<std::string>{"front", "back\\door", "1"}));
    EXPECT_EQ(config.run.menu.default_entry, 1);
    const Config broken("load_env\n" E("a"), forge::Tree().file("/boot/grub/grubenv", "rubbish"));
    EXPECT_EQ(broken.run.menu.messages[0].text, "error: invalid environment block.");
    EXPECT_EQ(broken.titles(), std::vector<std::string>{"a"});
}

struct Default {
    const char* name;
    const char* head;
    int index;
    bool matches;
    std::string unattended;
};
class Defaults : public testing::TestWithParam<Default> {};
TEST_P(Defaults, ChooseThisEntry) {
    const Config config(std::string(GetParam().head) + E("'first' --id one")
                                                           E("'second' --id two") "submenu 'more' --id sub {\n" E(
                                                               "'inner a' --id ia") E("'inner b' --id ib") "}\n");
    EXPECT_EQ(config.run.menu.default_entry, GetParam().index);
    EXPECT_EQ(config.run.menu.default_matches, GetParam().matches);
    ASSERT_NE(config.run.menu.unattended(), nullptr);
    EXPECT_EQ(config.run.menu.unattended()->title, GetParam().unattended);
}
INSTANTIATE_TEST_SUITE_P(All, Defaults,
                         testing::Values(Default{"Unset", "", 0, true, "first"},
                                         Default{"Number", "default=1\n", 1, true, "second"},
                                         Default{"Title", "default=second\n", 1, true, "second"},
                                         Default{"Id", "default=two\n", 1, true, "second"},
                                         Default{"TooLarge", "default=9\n", 0, false, "first"},
                                         Default{"NoSuch", "default='third floor'\n", 0, false, "first"},
                                         Default{"Submenu", "default=2\n", 2, true, "inner a"},
                                         Default{"Path", "default='2>1'\n", 2, true, "inner b"},
                                         Default{"PathById", "default='sub>ib'\n", 2, true, "inner b"}),
                         support::by_name);

TEST(Menus, TimeoutAndStyleAreInterpreted) {
    EXPECT_FALSE(Config(E("a")).run.menu.timeout);
    const Config hidden("timeout=0\ntimeout_style=hidden\n" E("a"));
    EXPECT_EQ(hidden.run.menu.timeout, 0);
    EXPECT_EQ(hidden.run.menu.style, MenuStyle::Hidden);
    EXPECT_FALSE(hidden.run.menu.reveal.empty());
    // Without a timeout a hidden menu would hide for ever: GRUB shows it.
    EXPECT_EQ(Config("timeout_style=hidden\n" E("a")).run.menu.style, MenuStyle::Menu);
}

TEST(Menus, SubmenusSeeExportedVariablesOnly) {
    const Config config(
        "a=plain\nb=kept\nexport b\nsubmenu s {\n menuentry \"<$a$b>\" { true; }\n}\nmenuentry \"<$a$b>\" { true; }\n");
    EXPECT_EQ(config.run.menu.entries[0].children.at(0).title, "<kept>");
    EXPECT_EQ(config.run.menu.entries[1].title, "<plainkept>");
}

TEST(Entries, ResolveKernelRamDisksAndArguments) {
    const Config config(
        "menuentry a {\n set root=hd0,msdos1\n linux /vmlinuz root=LABEL=menu 'two words' $0\n initrd /initrd "
        "/extra.cpio\n}\n");
    const auto& e = config.run.menu.entries.at(0);
    EXPECT_EQ(e.kind, EntryKind::Linux);
    EXPECT_TRUE(e.kernel_loaded);
    EXPECT_EQ(e.kernel.at(0).place, "d1p1:/vmlinuz");
    EXPECT_EQ(e.kernel[0].line, 3);
    EXPECT_EQ(e.ramdisks.size(), 2U);
    EXPECT_EQ(e.arguments.substr(0, 26), "root=LABEL=menu two words");
    EXPECT_FALSE(e.stop);
}

struct Failing {
    const char* name;
    const char* body;
    Stage stage;
    const char* message;
};
class FailingEntries : public testing::TestWithParam<Failing> {};
TEST_P(FailingEntries, StopWithGrubsWords) {
    const Config config(std::string("menuentry x {\n") + GetParam().body + "\n}\n",
                        forge::Tree()
                            .file("/notes.txt", std::string(2000, 'n'))
                            .file("/cut", std::string(100, 'n'))
                            .link("/old", "vmlinuz-gone"));
    const auto& e = config.run.menu.entries.at(0);
    ASSERT_TRUE(e.stop);
    EXPECT_EQ(e.stop->stage, GetParam().stage);
    ASSERT_FALSE(e.messages.empty());
    EXPECT_EQ(e.messages[0].text, GetParam().message);
    EXPECT_FALSE(e.kernel_loaded);
}
INSTANTIATE_TEST_SUITE_P(
    All, FailingEntries,
    testing::Values(
        Failing{"Missing", "linux /vmlinux\ninitrd /initrd", Stage::Entry, "error: file `/vmlinux' not found."},
        Failing{"Dangling", "linux /old", Stage::Entry, "error: file `/old' not found."},
        Failing{"NoDevice", "set root=hd0,msdos3\nlinux /vmlinuz", Stage::Entry, "error: no such partition."},
        Failing{"NoDisk", "linux (hd4,msdos1)/vmlinuz", Stage::Entry, "error: disk `hd4,msdos1' not found."},
        Failing{"WholeDisk", "set root=hd0\nlinux /vmlinuz", Stage::Entry, "error: unknown filesystem."},
        Failing{"Directory", "linux /boot", Stage::Entry, "error: not a regular file."},
        Failing{"NoKernel", "linux /notes.txt", Stage::Kernel, "error: invalid magic number."},
        Failing{"Short", "linux /cut", Stage::Kernel, "error: premature end of file /cut."},
        Failing{"ChainWithoutSignature", "chainloader (hd0,msdos1)+1", Stage::BootSector, "error: invalid signature."}),
    support::by_name);

TEST(Entries, AMissingRamDiskLeavesTheKernelLoaded) {
    const Config config("menuentry x {\n linux /vmlinuz root=LABEL=menu\n initrd /initrd.img\n}\n");
    const auto& e = config.run.menu.entries.at(0);
    EXPECT_TRUE(e.kernel_loaded);
    EXPECT_FALSE(e.stop);
    ASSERT_FALSE(e.ramdisks.at(0).found());
    EXPECT_EQ(e.ramdisks[0].near_misses, std::vector<std::string>{"/initrd"});
}

TEST(Entries, SearchFindsByUuidLabelAndFile) {
    const std::string load = "\nlinux /vmlinuz\n}\n";
    for (const char* search : {"search --no-floppy --fs-uuid --set=root 5C819700-0001-4a01-8a01-000000000001",
                               "search --label menu --set root", "search -f /vmlinuz --set",
                               "search.fs_uuid 5c819700-0001-4a01-8a01-000000000001 root hd5,msdos1",
                               "search -s root -u 5c819700-0001-4a01-8a01-000000000001"}) {
        const Config config(std::string("menuentry x {\nset root=hd9\n") + search + load);
        EXPECT_TRUE(config.run.menu.entries.at(0).kernel_loaded) << search;
    }
    const Config lost("menuentry x {\nset root=hd9\nsearch --fs-uuid --set=root dead" + load);
    EXPECT_EQ(lost.run.menu.entries.at(0).messages.at(0).text, "error: no such device: dead.");
    // A search that finds nothing leaves root as it was.
    EXPECT_TRUE(Config("menuentry x {\nset root=hd0,msdos1\nsearch --fs-uuid --set=root dead" + load)
                    .run.menu.entries.at(0)
                    .kernel_loaded);
}

TEST(Entries, AKernelLoadedAtTheTopStartsWithBoot) {
    const Config config("linux /vmlinuz root=LABEL=menu\nboot\n" E("never"));
    EXPECT_TRUE(config.run.menu.boots_without_menu);
    EXPECT_TRUE(config.run.menu.unattended()->kernel_loaded);
}

TEST(Entries, ChainloadingNamesItsTarget) {
    const Config config("menuentry x {\n chainloader --force (hd0,msdos1)+1\n}\n");
    const auto& e = config.run.menu.entries.at(0);
    EXPECT_EQ(e.kind, EntryKind::Chainload);
    ASSERT_TRUE(e.chain);
    EXPECT_EQ(e.chain->place, "d1p1");
    const Config unsigned_one("menuentry x {\n chainloader (hd0,msdos1)+1\n}\n");
    const auto& stop = unsigned_one.run.menu.entries.at(0).stop;
    ASSERT_TRUE(stop);
    EXPECT_EQ(stop->code, Code::ChainNoSignature);
    EXPECT_EQ(e.chain->code, (DiskRange{1, 2048 * 512, 512}));
}

TEST(Entries, PasswordsAreNoticed) {
    const Config config("set superusers=warden\n" E("a --unrestricted") E("b --users ''"));
    EXPECT_FALSE(config.run.menu.entries.at(0).restricted);
    EXPECT_TRUE(config.run.menu.entries.at(1).restricted);
}

// --- entries by the Boot Loader Specification ----------------------------------------------------------------------

/// The front desk with its menu in files of their own, as some distributions keep it.
demo::FrontDesk with_entry_files() {
    auto d = demo::front_desk();
    const std::string modules = "/boot/grub/i386-pc/";
    d.root.file(modules + "blscfg.mod", forge::make_grub_module({"blscfg", {"normal"}, {}, {}}));
    auto& list = d.root.at(modules + "command.lst").content;
    const auto more = forge::to_bytes("blscfg: blscfg\n");
    list.insert(list.end(), more.begin(), more.end());
    d.root.file("/boot/grub/grub.cfg", std::string("set timeout=5\nset kernelopts=\"root=UUID=") + demo::root_uuid +
                                           " ro quiet\"\nset blsdir=/boot/loader/entries\ninsmod blscfg\nblscfg\n");
    const auto entry = [&](const std::string& version, const std::string& kernel) {
        d.root.file("/boot/loader/entries/a1b0f-" + version + ".conf",
                    "title Almhof (" + version + ")\nversion " + version + "\n# a remark\nlinux " + kernel +
                        "\ninitrd /boot/initrd.img-" + demo::release +
                        "\noptions $kernelopts\ngrub_users $grub_users\ngrub_class almhof\n");
    };
    entry("6.1.9-1", "/boot/vmlinuz-gone");
    entry("6.1.10-1", std::string("/boot/vmlinuz-") + demo::release);
    entry("6.1.10~rc1-1", "/boot/vmlinuz-gone");
    d.root.file("/boot/loader/entries/read me", "no entry\n");
    return d;
}

TEST(EntryFiles, BecomeAMenuInTheOrderOfTheirVersions) {
    const support::Checked checked(with_entry_files().build());
    ASSERT_EQ(checked.verdict.menus.size(), 1U);
    const auto& entries = checked.verdict.menus[0].entries;
    ASSERT_EQ(entries.size(), 3U);
    EXPECT_EQ(entries[0].title, "Almhof (6.1.10-1)");
    EXPECT_EQ(entries[1].title, "Almhof (6.1.10~rc1-1)");
    EXPECT_EQ(entries[2].title, "Almhof (6.1.9-1)");
    EXPECT_EQ(entries[0].id, "a1b0f-6.1.10-1");
    EXPECT_EQ(entries[0].place, "d1p1:/boot/loader/entries/a1b0f-6.1.10-1.conf");
    EXPECT_EQ(entries[0].line, 4);
    EXPECT_EQ(entries[0].arguments, std::string("root=UUID=") + demo::root_uuid + " ro quiet");
    EXPECT_EQ(checked.stage(), "yes") << checked.system().symptom;
    ASSERT_TRUE(entries[2].stop);
    EXPECT_EQ(entries[2].stop->code, Code::EntryKernelMissing);
}

TEST(EntryFiles, TheSavedEntryIsNamedByItsFile) {
    auto d = with_entry_files();
    support::edit(d.root, "/boot/grub/grub.cfg", "set timeout=5", "set timeout=5\nset default=a1b0f-6.1.9-1");
    const support::Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "entry");
    EXPECT_EQ(checked.system().entry, "Almhof (6.1.9-1)");
}

TEST(EntryFiles, NoneLeaveAnEmptyMenu) {
    auto d = with_entry_files();
    support::edit(d.root, "/boot/grub/grub.cfg", "blsdir=/boot/loader/entries", "blsdir=/boot/loader/entires");
    const support::Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "configuration");
    EXPECT_TRUE(checked.has(Code::GrubConfigEmpty));
}

}  // namespace
