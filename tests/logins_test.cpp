// SPDX-License-Identifier: MIT
// Who may come in once a Linux is up, and the modules that lie on its root.
#include "reception.hpp"
#include "support.hpp"

using namespace herberge;
using support::Checked;

namespace {

const std::string modules = std::string("/usr/lib/modules/") + demo::release + "/";

/// Nothing of it stops the start; each is told with where it is said.
struct Door {
    const char* name;
    std::function<void(forge::Tree&)> change;
    std::optional<Code> code;  ///< none: nothing is told
    std::string text;
    std::string place;  ///< of the last evidence, behind "d1p1:"
    int line = 0;       ///< 0: none
};
class LoginDoors : public testing::TestWithParam<Door> {};

TEST_P(LoginDoors, AreToldAndStopNothing) {
    auto desk = demo::reception();
    desk.root.file("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\nreto:x:1000:1000::/home/reto:/bin/sh\n");
    GetParam().change(desk.root);
    const Checked checked(desk.build());
    EXPECT_EQ(checked.stage(), "yes") << checked.system().at(Stage::Services).text;
    static constexpr Code all[] = {Code::ServicesNoLogin,     Code::LoginBarred,
                                   Code::RootLocked,          Code::SelinuxPolicyMissing,
                                   Code::SelinuxRelabel,      Code::KernelModulesIncomplete,
                                   Code::KernelModuleUnknown, Code::KernelModulesMissing,
                                   Code::RootReadOnly,        Code::ServicesFirstStart};
    std::vector<Finding> found;
    for (const auto& finding : checked.verdict.findings)
        if (std::ranges::find(all, finding.code) != std::end(all)) found.push_back(finding);
    if (!GetParam().code) {
        EXPECT_TRUE(found.empty()) << found.front().text;
        return;
    }
    ASSERT_EQ(found.size(), 1) << (found.empty() ? "" : found[1].text);
    EXPECT_EQ(found[0].code, *GetParam().code);
    EXPECT_EQ(found[0].text, GetParam().text);
    EXPECT_NE(found[0].severity, Severity::Breaks);
    EXPECT_EQ(found[0].evidence.back().place, "d1p1:" + GetParam().place);
    EXPECT_EQ(found[0].evidence.back().line.value_or(0), GetParam().line);
}

/// A login by PAM: its rules, and the modules in one of the folders that distributions have.
void with_pam(forge::Tree& t, const std::string& rules) {
    t.file("/etc/pam.d/login", rules).file("/etc/pam.d/common-auth", "auth required pam_unix.so nullok\n");
    t.file("/usr/lib/x86_64-linux-gnu/security/pam_unix.so", "ELF");
}

INSTANTIATE_TEST_SUITE_P(
    All, LoginDoors,
    testing::Values(
        Door{"Sound", [](auto&) {}, {}, "", ""},
        Door{"NoAccounts", [](auto& r) { r.remove("/etc/passwd"); }, Code::ServicesNoLogin,
             "/etc/passwd is missing: nobody can log in at the screen", "/etc/passwd"},
        Door{"NoRoot", [](auto& r) { r.file("/etc/passwd", "reto:x:1000:1000::/home/reto:/bin/sh\n"); },
             Code::ServicesNoLogin, "/etc/passwd has no account root: nobody can repair this system at its screen",
             "/etc/passwd"},
        Door{"ShellGone", [](auto& r) { r.file("/etc/passwd", "bell:x:7:7::/:\nroot:x:0:0:root:/root:/bin/zsh\n"); },
             Code::ServicesNoLogin,
             "root's shell /bin/zsh cannot run (/usr/bin/zsh does not exist (through the link /bin -> usr/bin)): root "
             "cannot "
             "log in",
             "/etc/passwd", 2},
        Door{"NoShellNamed", [](auto& r) { r.file("/etc/passwd", "root:x:0:0:root:/root:\n"); }, {}, "", ""},
        Door{"FirstStart", [](auto& r) { r.remove("/etc/machine-id"); }, Code::ServicesFirstStart,
             "systemd will take this start for the first one of this root: it makes a machine id, and enables what its "
             "presets name besides the units told here",
             "/etc/machine-id"},
        Door{"ReadOnlyByTheTable",
             [](auto& r) { r.file("/etc/fstab", "# the inn\n/dev/sda1 / ext4 rw,ro,noatime 0 1\n"); },
             Code::RootReadOnly, "the root stays read-only: /etc/fstab says ro", "/etc/fstab", 2},
        Door{"MadeWritableByTheTable",
             [](auto& r) { r.file("/etc/fstab", "/dev/sda1 / ext4 ro,rw 0 1\n"); },
             {},
             "",
             ""},
        Door{"ReadOnlyWithoutALine", [](auto& r) { r.file("/etc/fstab", "# none\n"); }, Code::RootReadOnly,
             "the root stays read-only: the command line says ro, and /etc/fstab has no line for / that would make it "
             "writable",
             "/etc/fstab"},
        Door{"KeptOut", [](auto& r) { r.file("/etc/nologin", "closed for the season\n"); }, Code::LoginBarred,
             "/etc/nologin keeps out everybody but root", "/etc/nologin"},
        Door{"PamSound",
             [](auto& r) {
                 with_pam(r, "auth optional pam_faildelay.so\n@include common-auth\n-session required pam_x.so\n");
             },
             {},
             "",
             ""},
        Door{"PamModuleGone",
             [](auto& r) { with_pam(r, "# rules\n@include common-auth\nauth requisite pam_bell.so\n"); },
             Code::ServicesNoLogin, "pam_bell.so is required for a login and is not there: every login is refused",
             "/etc/pam.d/login", 3},
        Door{"PamRulesGone",
             [](auto& r) {
                 with_pam(r, "");
                 r.remove("/etc/pam.d/login");
             },
             Code::ServicesNoLogin,
             "/etc/pam.d has rules neither for login nor for what is not listed: every login is refused",
             "/etc/pam.d/login"},
        Door{"PamIncludeGone", [](auto& r) { with_pam(r, "auth include tower-auth\n"); }, Code::ServicesNoLogin,
             "/etc/pam.d/tower-auth is not there, and rules of PAM include it: every login is refused",
             "/etc/pam.d/tower-auth"},
        Door{"PamInACircle", [](auto& r) { with_pam(r, "@include login\n@include common-auth\n"); }, {}, "", ""},
        Door{"Relabel",
             [](auto& r) {
                 r.file("/etc/selinux/config", "SELINUX=permissive\nSELINUXTYPE=targeted\n").file("/.autorelabel", "");
             },
             Code::SelinuxRelabel,
             "the next start labels every file anew for SELinux, which takes long, and starts again", "/.autorelabel"},
        Door{
            "PolicyGone", [](auto& r) { r.file("/etc/selinux/config", "# x\nSELINUX=enforcing\nSELINUXTYPE=mls\n"); },
            Code::SelinuxPolicyMissing,
            "/etc/selinux/config enforces the policy mls, and /etc/selinux/mls/policy holds none: where the kernel has "
            "SELinux on, init stops there",
            "/etc/selinux/mls/policy"},
        Door{"PolicyThere",
             [](auto& r) {
                 r.file("/etc/selinux/config", "SELINUX=enforcing\n")
                     .file("/etc/selinux/targeted/policy/policy.33", "policy");
             },
             {},
             "",
             ""},
        Door{"SelinuxOff", [](auto& r) { r.file("/etc/selinux/config", "SELINUX=disabled\n"); }, {}, "", ""},
        Door{"ModuleFilesThere",
             [](auto& r) {
                 r.file(modules + "modules.dep", "kernel/fs/fat/vfat.ko.xz: kernel/fs/fat/fat.ko.xz\n")
                     .file(modules + "kernel/fs/fat/vfat.ko.xz", "ELF");
             },
             {},
             "",
             ""},
        Door{"ModuleFilesGone",
             [](auto& r) {
                 r.file(modules + "modules.dep", "kernel/fs/fat/fat.ko:\nkernel/fs/fat/vfat.ko:\nkernel/net/bell.ko:\n")
                     .file(modules + "kernel/fs/fat/vfat.ko", "ELF");
             },
             Code::KernelModulesIncomplete,
             std::string("2 of 3 modules that /lib/modules/") + demo::release +
                 "/modules.dep lists are not there: kernel/fs/fat/fat.ko, kernel/net/bell.ko",
             std::string("/lib/modules/") + demo::release + "/modules.dep"},
        Door{"ListedModuleUnknown",
             [](auto& r) {
                 r.file(modules + "modules.dep", "kernel/fs/fat/vfat.ko:\n")
                     .file(modules + "kernel/fs/fat/vfat.ko", "ELF");
                 r.file(modules + "modules.builtin", "kernel/drivers/loop-back.ko\n");
                 r.file(modules + "modules.alias", "alias pci:v* e1000\nalias tower-bell bell\n");
                 r.file("/etc/modules", "# by hand\nvfat\nloop_back\ntower_bell\n\navalanche speed=9\n");
             },
             Code::KernelModuleUnknown,
             std::string("/etc/modules asks for the module avalanche, and the kernel ") + demo::release +
                 " has none of that name",
             "/etc/modules", 6}),
    support::by_name);

/// A start that ends in emergency mode, where nobody gets in.
TEST(RootLocked, IsToldWhereEmergencyModeComes) {
    for (const auto& [field, locked] : {std::pair("!", true), {"*", true}, {"$6$hut$x", false}, {"", false}}) {
        auto desk = demo::reception();
        desk.root.file("/etc/shadow", std::string("root:") + field + ":19000:0:99999:7:::\n");
        desk.root.file("/etc/fstab", std::string("UUID=") + demo::root_uuid +
                                         " / ext4 defaults 0 1\nUUID=0a1b0f00-0000-4000-8000-0000000000ee /srv ext4 "
                                         "defaults 0 2\n");
        const Checked checked(desk.build());
        EXPECT_EQ(checked.stage(), "services");
        EXPECT_EQ(checked.has(Code::RootLocked), locked) << field;
    }
    auto desk = demo::reception();
    desk.root.file("/etc/shadow", "root:!:19000:0:99999:7:::\n");
    EXPECT_FALSE(Checked(desk.build()).has(Code::RootLocked)) << "where the start goes on it does not matter";
}

/// BusyBox' init starts a program with a dash before it as a login shell; System V's has a plus for its accounts.
TEST(Terminals, MarksBeforeAProgramAreNoPartOfItsName) {
    for (const auto& [program, told] :
         {std::pair("-/bin/sh", false), {"+/sbin/getty 38400 tty2", false}, {"-/bin/nothing", true}}) {
        auto desk = demo::front_desk();
        desk.root.file("/etc/inittab", std::string("::sysinit:/etc/init.d/rcS\nttyS0::askfirst:") + program + "\n");
        const Checked checked(desk.build());
        EXPECT_EQ(checked.stage(), "yes") << program;
        EXPECT_EQ(checked.has(Code::ServicesNoLogin), told) << program;
    }
}

}  // namespace
