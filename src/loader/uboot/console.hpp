// SPDX-License-Identifier: MIT
// U-Boot at its command line: variables, memory, media, and what its commands come to on this machine.
#pragma once

#include <set>

#include <herberge/board.hpp>

#include "loader/family.hpp"
#include "loader/uboot/environment.hpp"
#include "loader/uboot/script.hpp"

namespace herberge::loader::uboot {

/// A file, or a part of one, in memory.
struct Loaded {
    std::uint64_t address = 0, size = 0;
    FileReference file;
    Source bytes;
    std::string overwritten_by;  ///< another file was put over a part of it; empty: none was
};

/// What was tried and did not start: why, and as which entry of which menu.
struct Trouble {
    Finding why;
    std::optional<Menu> menu;  ///< with that entry; none: it came to no entry
};

/// What a boot command is given.
struct BootWords {
    std::string command;  ///< "bootm", "booti", "bootz"
    std::string kernel, ramdisk, tree;
};

/// How the commands ended.
struct Outcome {
    std::optional<Menu> started;  ///< with the entry that was started, or that starts by itself
    std::vector<Trouble> troubles;
    std::vector<std::string> unfollowed;  ///< commands that are not known here
    std::vector<Evidence> looked_at;      ///< files and partitions that were asked for
    std::vector<std::string> screen;
};

class Console {
public:
    /// `native`: the environment is the board's own, which is not at hand: its usual commands are carried out without
    /// their text.
    Console(const Machine& machine, const Board& board, Variables variables, bool native);

    /// Runs the text of a variable, as at the end of the countdown.
    Outcome boot(const std::string& variable);

private:
    /// Where the text that is run lies.
    struct Frame {
        std::string place;  ///< "d1p1:/boot.scr"; empty: a variable
        std::string variable;
    };
    using Words = std::vector<std::string>;
    using Handler = int (Console::*)(const Words&);
    struct Command {
        std::string_view name;
        Handler handler;
    };
    static const std::vector<Command>& commands();

    // console.cpp: running
    int run_text(std::string_view text, Frame frame);
    int run_block(const Block& block);
    int run_statement(const Statement& statement);
    int run_loop(const Statement& statement);
    int run_words(const Words& words);
    int run_variable(const std::string& name);
    [[nodiscard]] Words expand(const std::vector<Word>& words) const;
    [[nodiscard]] bool over() const { return started_.has_value() || exiting_ || leaving_ || steps_ > most_steps; }
    [[nodiscard]] std::string value(std::string_view name) const;
    [[nodiscard]] std::string with_variables(std::string_view text) const;
    void set(const std::string& name, const std::string& value);
    void say(std::string line);
    void trouble(Code code, std::string text, std::vector<Evidence> evidence, const std::string& screen,
                 std::optional<Menu> menu = std::nullopt);
    [[nodiscard]] Evidence here(std::string found = {}) const;

    // commands.cpp
    int do_echo(const Words& words);
    int do_true(const Words& words);
    int do_false(const Words& words);
    int do_setenv(const Words& words);
    int do_env(const Words& words);
    int do_run(const Words& words);
    int do_test(const Words& words);
    int do_itest(const Words& words);
    int do_setexpr(const Words& words);
    int do_exit(const Words& words);
    int do_device(const Words& words);
    int do_network(const Words& words);
    int do_fdt(const Words& words);
    int do_reset(const Words& words);
    int import_variables(const Words& words);

    // media.cpp
    struct Medium {
        const Disk* disk = nullptr;  ///< null: there is no such device
        VolumeRef volume;            ///< null: no such partition
        std::string problem;         ///< U-Boot's words
    };
    [[nodiscard]] const Disk* device(std::string_view interface, std::string_view number) const;
    [[nodiscard]] Medium medium(std::string_view interface, std::string_view text) const;
    [[nodiscard]] bool exists(const Words& words, std::size_t from);
    int do_load(const Words& words);
    int do_part(const Words& words);
    int do_fstype(const Words& words);
    int do_list(const Words& words);
    /// Loads a file to an address; false: it is not there.
    bool load(const VolumeRef& volume, const std::string& path, std::uint64_t address, std::uint64_t most = 0,
              std::uint64_t from = 0);
    [[nodiscard]] const Loaded* at(std::uint64_t address) const;

    // boot.cpp
    int do_source(const Words& words);
    int do_boot(const Words& words);
    int do_bootefi(const Words& words);
    /// Prepares what a boot command would start; the first thing that is wrong stops the entry.
    [[nodiscard]] MenuEntry prepare(const BootWords& words);
    void take_kernel(const BootWords& words, MenuEntry& entry, std::string& ramdisk, std::string& tree);
    void take_fit(const Loaded& held, const std::string& configuration, MenuEntry& entry, std::string& ramdisk,
                  std::string& tree);
    void take_legacy(const Loaded& held, MenuEntry& entry);
    void take_ramdisk(const std::string& word, MenuEntry& entry);
    void take_tree(const std::string& word, MenuEntry& entry);
    void nothing_at(std::uint64_t address, const BootWords& words, MenuEntry& entry) const;
    [[nodiscard]] bool in_memory(std::uint64_t address) const;
    [[nodiscard]] bool verifies() const;
    [[nodiscard]] std::optional<Finding> refuse_application(const Loaded& held) const;
    Menu script_menu(MenuEntry entry) const;

    // extlinux.cpp
    int do_sysboot(const Words& words);
    int sysboot(const VolumeRef& volume, const std::string& path);

    // scan.cpp: what distribution-style variables do
    int scan(const std::vector<std::string>& targets);
    int scan_medium(const std::string& interface, const std::string& number);
    int scan_volume();
    int do_bootflow(const Words& words);

    static constexpr std::size_t most_steps = 200'000;
    static constexpr int most_depth = 16;  ///< of scripts and variables that run each other

    const Machine& machine_;
    const Board& board_;
    Variables variables_;
    Variables local_;  ///< of the shell
    bool native_;
    std::vector<Loaded> memory_;
    std::map<std::uint64_t, Trouble> not_loaded_;  ///< by address: what should lie there
    std::vector<Frame> frames_;
    int line_ = 0;
    int last_ = 0;
    std::size_t steps_ = 0;
    bool exiting_ = false;  ///< nothing goes on
    bool leaving_ = false;  ///< the script that is run ends here
    std::optional<Menu> started_;
    std::vector<Trouble> troubles_;
    std::vector<std::string> unfollowed_;
    std::vector<Evidence> looked_at_;
    std::vector<std::string> screen_;
};

/// What U-Boot reads of a volume; null: it does not take it for one of its file systems (fs/fat/fat.c wants its marks).
[[nodiscard]] const FileSystem* files_of(const Volume& volume);
/// The partitions that U-Boot calls bootable: the active ones; of a GPT those with the attribute for a legacy BIOS, and
/// UEFI's system partition.
[[nodiscard]] std::vector<int> bootable(const Disk& disk);
/// Stops an entry, if nothing has before; what the screen shows becomes the entry's messages.
void refuse(MenuEntry& entry, Finding why);
/// The words of a value, blanks between them.
[[nodiscard]] std::vector<std::string> words_of(std::string_view text);
/// A number as U-Boot reads it: hexadecimal, with or without 0x. None: it is none.
[[nodiscard]] std::optional<std::uint64_t> number_of(std::string_view text);

}  // namespace herberge::loader::uboot
