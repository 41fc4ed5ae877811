// SPDX-License-Identifier: MIT
// GRUB's language and commands, against what a real one answered (conformance/grub.scripts). Its modules are those of
// the package.
#include <fmt/format.h>
#include <filesystem>

#include "answer_table.hpp"
#include "support.hpp"

using namespace herberge;

namespace {

constexpr const char* volume_uuid = "11111111-2222-3333-4444-555555555555";
const std::string reset =
    "unset r; unset x; unset y; unset i; unset j; unset saved; unset next; unset a.b; set root=hd0,msdos1\n";

/// The volume that the table speaks of.
forge::Tree volume(const std::vector<support::Answered>& rows) {
    forge::Tree out;
    for (const auto& entry : std::filesystem::directory_iterator("/usr/lib/grub/i386-pc"))
        if (const auto extension = entry.path().extension(); extension == ".mod" || extension == ".lst")
            out.file("/boot/grub/i386-pc/" + entry.path().filename().string(), support::file_bytes(entry.path()));
    std::string block = "# GRUB Environment Block\nsaved=one\nnext=two\n";
    block.resize(1024, '#');
    out.file("/f/a", "aaa\n").file("/f/b", "bb\n").file("/f/empty", "").file("/f/a.txt", "t\n");
    out.file("/f/set.cfg", "set r=a\n").file("/f/bad.cfg", "set r=b\nif\n").file("/f/env", block);
    out.file("/f/entries.cfg", "menuentry q { true }\n");
    out.link("/f/link", "a").link("/f/dlink", ".").link("/f/bad", "none");
    for (const auto& row : rows) out.file(fmt::format("/s/{}.cfg", row.line), row.script + "\n");
    return out;
}

/// A core that GRUB's own maker makes, where its installer puts it (util/setup.c).
void put_grub(forge::DiskSpec& disk) {
    const support::Folder folder;
    const auto made = support::shell("grub-mkimage -O i386-pc -p '(hd0,msdos1)/boot/grub' -o " + folder.file("core") +
                                     " biosdisk part_msdos ext2");
    ASSERT_EQ(made.status, 0) << made.out;
    disk.boot_code = support::file_bytes("/usr/lib/grub/i386-pc/boot.img");
    disk.boot_code.resize(440);
    disk.gap = support::file_bytes(folder.file("core"));
    disk.gap.resize((disk.gap.size() + 511) / 512 * 512);
    forge::put64(disk.gap, 500, 2);
    forge::put16(disk.gap, 508, static_cast<std::uint16_t>(disk.gap.size() / 512 - 1));
}

TEST(GrubLanguage, AnswersAsARealOneDid) {
    auto rows = support::answer_table("grub.scripts");
    ASSERT_GT(rows.size(), 800U);
    // The generator gives all files one time.
    std::erase_if(rows, [](const support::Answered& row) {
        return row.script.find(" -nt") != std::string::npos || row.script.find(" -ot") != std::string::npos;
    });
    const auto tree = volume(rows);
    std::size_t answered = 0;
    forge::DiskSpec disk;
    disk.size = 26U << 20U;
    disk.signature = 0xA1B0C0DE;
    put_grub(disk);
    constexpr std::size_t some = 400;  // a menu has at most 500 entries
    for (std::size_t first = 0; first < rows.size(); first += some) {
        auto all = tree;
        std::string configuration;
        const std::size_t end = std::min(first + some, rows.size());
        for (std::size_t i = first; i < end; ++i)
            configuration += fmt::format("{}source /s/{}.cfg\nmenuentry \"<<{}|$r|>>\" {{ true; }}\n", reset,
                                         rows[i].line, rows[i].line);
        all.file("/boot/grub/grub.cfg", configuration);
        forge::ExtOptions options;
        options.size = 24U << 20U;
        options.uuid = forge::uuid_from(volume_uuid);
        options.label = "INNFS";
        disk.partitions = {{2048, forge::make_ext(all, options), 0x83, true}};
        const auto machine = support::machine_of(forge::make_disk(disk));
        const auto menus = read_menus(machine);
        ASSERT_FALSE(menus.empty());
        const auto& entries = menus.front().entries;
        for (const auto& row : rows) {
            const std::string begin = fmt::format("<<{}|", row.line);
            const auto entry = std::ranges::find_if(entries, [&](const auto& e) { return e.title.starts_with(begin); });
            if (entry == entries.end()) continue;
            ++answered;
            const auto answer = entry->title.substr(begin.size(), entry->title.size() - begin.size() - 3);
            EXPECT_EQ(support::as_in_table(answer), support::as_in_table(row.answer))
                << "grub.scripts, line " << row.line << ": " << row.script;
        }
    }
    EXPECT_EQ(answered, rows.size());
}

}  // namespace
