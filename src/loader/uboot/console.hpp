// SPDX-License-Identifier: MIT
// U-Boot at its command line: variables, memory, media, and what its commands come to on this machine.
#pragma once

#include <set>
#include <span>

#include <herberge/board.hpp>

#include "artifact/device_tree.hpp"
#include "artifact/image_signature.hpp"
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
    int layers = 0;              ///< how many copies and changes its bytes are read through
};
/// A part of what was loaded, as a file of its own.
[[nodiscard]] FileReference part_of(const Loaded& held, std::uint64_t offset, std::uint64_t length);
/// The same at another address.
[[nodiscard]] Loaded moved(const Loaded& held, std::uint64_t offset, std::uint64_t length, std::uint64_t address);
/// What a command made of `held`: these bytes, under this name.
[[nodiscard]] Loaded remade(const Loaded& held, std::vector<std::uint8_t> bytes, std::string place);

/// What was tried and did not start: why, and as which entry of which menu.
struct Trouble {
    Finding why;
    std::optional<Menu> menu;  ///< with that entry; none: it came to no entry
    /// Something is not in memory that a command which is not followed, or a medium that is not at hand, may have put
    /// there: which; empty: it is known that it is not there.
    std::string blind;
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
    std::vector<Finding> findings;  ///< what may go wrong with what was started
    bool dead = false;              ///< the last of the troubles took the machine with it
};

/// What a U-Boot was built with, as far as its program tells.
struct Build {
    bool overlays = true;      ///< lays one device tree over another
    bool android = true;       ///< knows Android's images
    bool plain_names = false;  ///< refuses image trees with an @ in a node's name, since it verifies signatures
    ImageKeys keys;            ///< those that it demands signatures by
    std::string program;       ///< its bytes; empty: they are not at hand
    std::string version;       ///< "U-Boot 2023.01"; empty: not known
    bool emulated = false;     ///< on one of the emulated boards: its commands are known
    /// Whether it was built with a command; true where nothing tells.
    [[nodiscard]] bool has(std::string_view command) const;
};

struct ExtlinuxLabel;
struct ExtlinuxMenu;

class Console {
public:
    /// `native`: the environment is the board's own, which is not at hand: its usual commands are carried out without
    /// their text.
    Console(const Machine& machine, const Board& board, Variables variables, bool native, Build build = {});

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
    int run_simple(std::span<const Word> words);
    int run_words(const Words& words);
    int run_variable(const std::string& name);
    [[nodiscard]] std::optional<Words> expand(std::span<const Word> words);
    [[nodiscard]] std::string with_values(const Word& word);
    [[nodiscard]] std::string shell_value(std::string_view word);
    void set_local(const std::string& name, std::string value);
    [[nodiscard]] bool over() const {
        return started_.has_value() || dead_ || exiting_ || leaving_ || steps_ > most_steps;
    }
    [[nodiscard]] std::string value(std::string_view name) const;
    /// "U-Boot 2023.01", by its program or by the variable that some set; empty: not known.
    [[nodiscard]] std::string version() const { return build_.version.empty() ? value("ver") : build_.version; }
    /// A release up to 2023.01: an arm64 one does not go by its own device tree where none is named; `fit` is no word
    /// of its menus.
    [[nodiscard]] bool is_early() const;
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
    int do_printenv(const Words& words);
    int do_save(const Words& words);
    int do_with_words(const Words& words);
    int do_exit(const Words& words);
    int do_device(const Words& words);
    int do_network(const Words& words);
    int do_fdt(const Words& words);
    int do_reset(const Words& words);
    int do_start_again(const Words& words);
    int import_variables(const Words& words);
    int export_variables(const Words& words);
    int write_blocks(const Words& words);
    int unfollowed(const std::string& what);
    // conditions.cpp
    int do_test(const Words& words);
    int do_itest(const Words& words);
    int do_compare(const Words& words);
    // trees.cpp
    [[nodiscard]] const Loaded* working_tree() const;
    int tree_value(const Words& words);
    int make_room(const Words& words);
    int lay_over(const Words& words);
    void look_at_reservations(const DeviceTree& tree, const std::string& place,
                              const std::vector<const Loaded*>& parts);

    // memory.cpp: what lies in memory, and what changes it
    [[nodiscard]] const Loaded* at(std::uint64_t address) const;
    /// What is known to lie from an address on, at most `most` bytes.
    [[nodiscard]] std::vector<std::uint8_t> peek(std::uint64_t address, std::uint64_t most) const;
    void put(Loaded held);
    void put(std::uint64_t address, std::vector<std::uint8_t> bytes, const std::string& made_by);
    /// What should lie at an address, and does not: why.
    void missing(std::uint64_t address, Finding why);
    /// Nothing that is known lies from an address on.
    void forget(std::uint64_t address, std::string blind);
    [[nodiscard]] std::string blind_at(std::uint64_t address) const;
    int do_fill(const Words& words);
    int do_copy(const Words& words);
    int do_checksum(const Words& words);
    int do_unpack(const Words& words);
    Result<void> unpack_to(const Loaded& held, std::uint64_t begin, std::uint64_t length, Compression kind,
                           std::uint64_t to);
    int do_extract(const Words& words);
    int do_image_info(const Words& words);

    // expressions.cpp
    int do_setexpr(const Words& words);
    [[nodiscard]] std::optional<std::uint64_t> operand(std::string_view word, unsigned width) const;
    /// A text that lies in memory up to a zero; none: what lies there is not known.
    [[nodiscard]] std::optional<std::string> text_at(std::string_view address) const;
    int combine_texts(const Words& words);
    [[nodiscard]] std::optional<std::uint64_t> divide(std::uint64_t a, std::uint64_t b, bool rest);
    int substitute(const Words& words);

    // raw.cpp: media below the files, and flash
    /// Reads a part of a medium to an address, as far as the medium goes.
    int read_raw(const Source& medium, std::uint64_t from, std::uint64_t length, std::uint64_t address);
    int do_read(const Words& words);
    int read_blocks(const Words& words);
    [[nodiscard]] const Disk* flash() const;
    /// The partition behind "0:2" or "0#name"; null: none is named, or there is none.
    [[nodiscard]] static const Partition* partition_of(const Disk& disk, const std::string& word);
    /// A place of the flash, by the name of a part or as a number, and how much there is from there on.
    struct FlashPlace {
        std::uint64_t at = 0, size = 0;
    };
    [[nodiscard]] std::optional<FlashPlace> flash_place(const Disk& disk, const std::string& word) const;
    int do_flash(const Words& words);
    int do_mtd(const Words& words);
    int do_ubi(const Words& words);
    int do_ubifs(const Words& words);
    int do_flash_files(const Words& words);
    [[nodiscard]] VolumeRef flash_volume(const std::string& name) const;

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
    /// The same with U-Boot's words for a place and a file.
    int load_words(const Medium& found, const Words& words, std::size_t from);

    // boot.cpp
    int do_source(const Words& words);
    int do_boot(const Words& words);
    int do_bootefi(const Words& words);
    /// Prepares what a boot command would start; the first thing that is wrong stops the entry.
    [[nodiscard]] MenuEntry prepare(const BootWords& words);
    void take_kernel(const BootWords& words, MenuEntry& entry, std::string& ramdisk, std::string& tree);
    // image_tree.cpp
    void take_fit(const Loaded& held, const std::string& configuration, MenuEntry& entry, std::string& ramdisk,
                  std::string& tree);

    // legacy.cpp
    void take_legacy(const Loaded& held, MenuEntry& entry);
    [[nodiscard]] std::optional<Finding> cannot_unpack(const Loaded& held, std::uint64_t offset, std::uint64_t length,
                                                       Compression kind) const;
    // android.cpp
    void take_android(const Loaded& held, MenuEntry& entry, std::string& ramdisk, std::string& tree);
    int do_android(const Words& words);
    int do_slot(const Words& words);

    // boot.cpp
    void take_ramdisk(const std::string& word, MenuEntry& entry);
    void take_tree(const BootWords& words, const std::string& word, MenuEntry& entry);
    void nothing_at(std::uint64_t address, const BootWords& words, MenuEntry& entry);
    /// Stops an entry, if nothing has before, by what does not come back to the command line.
    void take_down(MenuEntry& entry, Finding why);
    [[nodiscard]] bool dies_without_tree() const { return is_early() && board_.processor == Processor::Arm64; }
    /// Where an arm64 kernel is moved to before it is started: first byte and size; none: it stays, or that is not
    /// known.
    [[nodiscard]] std::optional<std::pair<std::uint64_t, std::uint64_t>> moved_to(const ByteSource& kernel,
                                                                                  std::uint64_t at, bool forced) const;
    [[nodiscard]] Source kernel_to_move(const Loaded& held, const std::string& command, const MenuEntry& entry,
                                        bool& forced) const;
    void look_at_move(const BootWords& words, const std::string& ramdisk, const std::string& tree, MenuEntry& entry);
    [[nodiscard]] bool in_memory(std::uint64_t address) const;
    [[nodiscard]] bool verifies() const;
    [[nodiscard]] std::optional<Finding> refuse_application(const Loaded& held) const;
    Menu script_menu(MenuEntry entry) const;

    // extlinux.cpp
    int do_sysboot(const Words& words);
    int sysboot(const VolumeRef& volume, const std::string& path);
    MenuEntry try_label(const VolumeRef& volume, const std::string& folder, const ExtlinuxLabel& label);
    std::optional<BootWords> load_label(const VolumeRef& volume, const std::string& folder, const ExtlinuxLabel& label,
                                        MenuEntry& entry);
    bool retrieve(const VolumeRef& volume, const ExtlinuxLabel& label, const std::string& file, std::string_view to,
                  const char* what, MenuEntry& entry);
    bool names_a_kernel(const ExtlinuxLabel& label, MenuEntry& entry) const;
    bool is_given_up(const ExtlinuxMenu& menu, const std::string& place);
    [[nodiscard]] std::string tree_name() const;

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
    Build build_;
    std::vector<Loaded> memory_;
    std::map<std::uint64_t, Trouble> not_loaded_;             ///< by address: what should lie there
    std::map<std::string, std::string, std::less<>> chosen_;  ///< by interface: the device, and behind a dot its part
    std::string flash_part_;                                  ///< that of chpart
    int ubi_ = -1;                                            ///< the part that `ubi part` attached, from 0
    VolumeRef mounted_;                                       ///< by ubifsmount
    std::uint64_t tree_at_ = 0;                               ///< what `fdt addr` chose; 0: nothing
    std::map<std::uint64_t, std::uint64_t> room_;  ///< behind a tree at that address, for what is laid over it
    std::vector<Finding> findings_;
    std::map<std::string, bool> built_with_;  ///< of the commands that were asked for
    std::vector<Frame> frames_;
    int line_ = 0;
    int last_ = 0;
    std::size_t steps_ = 0;
    bool exiting_ = false;  ///< nothing goes on
    bool leaving_ = false;  ///< the script that is run ends here
    bool dead_ = false;     ///< what was started last took the machine with it: it hangs, or starts anew
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
void refuse(MenuEntry& entry, Code code, std::string text, std::vector<Evidence> evidence, std::string screen);
/// Bytes of what lies in memory as evidence, as far as it goes.
[[nodiscard]] Evidence bytes_of(const Loaded& held, std::uint64_t at, std::uint64_t length, std::string expected,
                                std::string found);
/// The words of a value, blanks between them.
[[nodiscard]] std::vector<std::string> words_of(std::string_view text);
/// Bytes of what a command works on: by ".b", ".w", ".l", ".q" behind its name; 4 without.
[[nodiscard]] unsigned width_of(const std::string& command);
/// As many hexadecimal digits as a word begins with; none is 0 (hextoul).
[[nodiscard]] std::uint64_t leading_number(std::string_view text);
/// A number as U-Boot reads it: hexadecimal, with or without 0x. None: it is none.
[[nodiscard]] std::optional<std::uint64_t> number_of(std::string_view text);

}  // namespace herberge::loader::uboot
