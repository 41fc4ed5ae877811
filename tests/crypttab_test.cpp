// SPDX-License-Identifier: MIT
// What is opened before the root is mounted: the words of a command line, the tables within a RAM disk.
#include <fmt/format.h>

#include <herberge/artifact.hpp>

#include "support.hpp"
#include "system/crypttab.hpp"

using namespace herberge;

namespace {

std::string told(const std::vector<CryptLine>& lines) {
    std::string out;
    for (const auto& line : lines)
        out += fmt::format("{}{} from {}{}{}{}", out.empty() ? "" : "; ", line.name, line.source,
                           line.key.empty() ? "" : " key " + line.key,
                           line.options.empty() ? "" : " as " + line.options, line.by_mark ? " by its mark" : "");
    return out;
}
std::string of_words(const std::string& words) { return told(opened_at_start(Machine{}, nullptr, CommandLine(words))); }

TEST(Crypttabs, WordsOfACommandLineNameADevice) {
    const std::pair<const char*, const char*> rows[] = {
        {"quiet root=/dev/mapper/cellar ro", ""},
        {"rd.luks.name=11-22=cellar", "cellar from UUID=11-22 by its mark"},
        {"luks.name=11-22=cellar=two", "cellar=two from UUID=11-22 by its mark"},
        {"luks.name=11-22", ""},
        {"rd.luks.uuid=11-22", "luks-11-22 from UUID=11-22 by its mark"},
        {"luks.uuid=luks-11-22", "luks-11-22 from UUID=11-22 by its mark"},
        {"rd_LUKS_UUID=luks-11-22", "luks-11-22 from UUID=11-22 by its mark"},
        {"cryptdevice=UUID=11-22:cellar", "cellar from UUID=11-22 by its mark"},
        {"cryptdevice=UUID=11-22:cellar:allow-discards", "cellar from UUID=11-22 by its mark"},
        {"cryptdevice=/dev/sda2:cellar", "cellar from /dev/sda2"},
        {"cryptdevice=/dev/sda2", ""},
        {"cryptopts=target=cellar,source=/dev/sda2,key=none,hash=x", "cellar from /dev/sda2"},
        {"cryptopts=source=UUID=11-22,key=/keys/one,target=cellar", "cellar from UUID=11-22 key /keys/one by its mark"},
        {"cryptroot=UUID=11-22 cryptdm=cellar", "cellar from UUID=11-22 by its mark"},
        {"cryptdm=cellar cryptroot=/dev/sda2", "cellar from /dev/sda2"},
        {"cryptroot=/dev/sda2", ""},
        {"cryptdm=cellar", ""},
        {"luks.uuid=11 luks.uuid=22", "luks-11 from UUID=11 by its mark; luks-22 from UUID=22 by its mark"},
        {"luks.uuid", ""},
    };
    for (const auto& [words, expected] : rows) EXPECT_EQ(of_words(words), expected) << words;
    const auto one = opened_at_start(Machine{}, nullptr, CommandLine("rd.luks.uuid=11-22"));
    ASSERT_EQ(one.size(), 1U);
    EXPECT_EQ(one[0].where, "the command line's rd.luks.uuid=11-22");
    EXPECT_EQ(one[0].volume, nullptr);
}

TEST(Crypttabs, LinesHaveUpToFourWords) {
    const std::pair<const char*, const char*> rows[] = {
        {"cellar UUID=11 none luks\n", "cellar from UUID=11 as luks by its mark"},
        {"cellar /dev/sda2 - luks,discard\n", "cellar from /dev/sda2 as luks,discard"},
        {"cellar /dev/sda2 /keys/one\n", "cellar from /dev/sda2 key /keys/one"},
        {"cellar /dev/sda2", "cellar from /dev/sda2"},
        {"cellar\n", ""},
        {"# cellar /dev/sda2\n\n\tcellar\t/dev/sda3  none\n", "cellar from /dev/sda3"},
        {"a LABEL=one\nb PARTUUID=22-01\n", "a from LABEL=one by its mark; b from PARTUUID=22-01 by its mark"},
    };
    for (const auto& [text, expected] : rows) EXPECT_EQ(told(parse_crypttab(Machine{}, text, "x")), expected) << text;
    const auto lines = parse_crypttab(Machine{}, "# one\na /dev/sda2\n\nb /dev/sda3\n", "/etc/crypttab");
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[0].where, "/etc/crypttab, line 2");
    EXPECT_EQ(lines[1].where, "/etc/crypttab, line 4");
}

/// The command line's words first, then the RAM disk's tables, the newer form before the older one.
TEST(Crypttabs, OfARamdiskAreReadInEachForm) {
    forge::Tree files;
    files.file("/cryptroot/crypttab", "new UUID=11 none luks\n")
        .file("/etc/crypttab", "plain /dev/sda2\n")
        .file("/conf/conf.d/cryptroot",
              "target=old,source=UUID=22,key=none,rootdev\n\ntarget=swap,source=/dev/sda3,key=/keys/two\n"
              "target=last,source=/dev/sda4");
    const auto ramdisk = inspect_ramdisk(*memory_source(forge::make_cpio(files), "initrd"));
    ASSERT_TRUE(ramdisk) << ramdisk.error().text();
    const auto lines = opened_at_start(Machine{}, &*ramdisk, CommandLine("luks.uuid=33"));
    EXPECT_EQ(told(lines),
              "luks-33 from UUID=33 by its mark; new from UUID=11 as luks by its mark; plain from /dev/sda2; "
              "old from UUID=22 by its mark; swap from /dev/sda3 key /keys/two; last from /dev/sda4");
    ASSERT_EQ(lines.size(), 6U);
    EXPECT_EQ(lines[1].where, "RAM disk:/cryptroot/crypttab, line 1");
    EXPECT_EQ(lines[2].where, "RAM disk:/etc/crypttab, line 1");
    EXPECT_EQ(lines[3].where, "RAM disk:/conf/conf.d/cryptroot");
}

}  // namespace
