// SPDX-License-Identifier: MIT
// Runs GRUB scripts (grub-core/script/execute.c, grub-core/normal/*.c) without ever leaving the library.
#pragma once

#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "loader/grub/script.hpp"
#include "loader/grub/world.hpp"

namespace herberge::grub {

/// A menu entry as defined, before it is tried.
struct Definition {
    MenuEntry entry;
    SharedBlock body;
    std::vector<std::string> arguments;  ///< positional parameters of the body
    bool submenu = false;
};

/// What a kernel command left behind.
struct Loaded {
    EntryKind kind = EntryKind::Nothing;
    std::string arguments;
    std::vector<FileReference> kernel;
    std::vector<FileReference> ramdisks;
    std::vector<FileReference> devicetree;
    bool ready = false;  ///< `boot` would start something
    KernelEntry started_by = KernelEntry::Protected;
    std::optional<Finding> stop;
    std::string unread;  ///< as MenuEntry::unread
    std::optional<ChainTarget> chain;
};

/// Everything that a command can change. Copied to try an entry.
struct Context {
    std::map<std::string, std::string, std::less<>> variables;
    std::set<std::string, std::less<>> exported;
    std::map<std::string, SharedBlock, std::less<>> functions;
    Modules modules;
    std::vector<Definition> menu;
    Loaded loaded;
    std::vector<LoaderMessage> messages;
    std::vector<LoaderMessage> echoes;
    bool superusers_asked = false;
    std::string unread;  ///< the configuration goes on in a file that is not read here: why; empty: it does not
    std::size_t variable_bytes = 0;  ///< names and values
};

/// Ends that stop the running of a script.
enum class Flow : std::uint8_t { Go, Break, Return, Booted, Left };

/// What failing commands leave in $? (include/grub/err.h).
namespace number_of {
inline constexpr int bad_file_type = 4, file_not_found = 5, device = 13, invalid_command = 17, bad_argument = 18;
}

class Interpreter {
public:
    Interpreter(World& world, Context context) : world_(world), context_(std::move(context)) {}

    /// Reads and runs a file line by line as GRUB does. False when it cannot be opened (then `why` tells).
    bool run_file(std::string_view path, Opened* why = nullptr);
    /// Runs the body of a definition as selecting its entry does, `boot` included when something is loaded.
    void run_entry(const Definition& definition);
    /// Runs text line by line with the simple parser of the core (no blocks), for embedded configurations.
    void run_embedded(std::string_view text);

    [[nodiscard]] Context& context() { return context_; }
    [[nodiscard]] const Context& context() const { return context_; }
    [[nodiscard]] Flow flow() const { return flow_; }
    [[nodiscard]] const std::string& file() const { return file_; }
    /// The command by which GRUB itself was left, "exit" or one of its kin; empty: by none.
    [[nodiscard]] const std::string& left_by() const { return left_by_; }
    [[nodiscard]] int line() const { return line_; }

private:
    using Arguments = std::vector<std::string>;
    using Handler = int (Interpreter::*)(const Arguments&, const Command&);
    static const std::map<std::string_view, Handler>& handlers();

    void run_block(const Block& block);
    void run_command(const Command& command);
    void run_loop(const Command& command);
    bool loop_ends();
    void run_simple(const Command& command);
    int dispatch(const Arguments& arguments, const Command& command);
    int call_function(const SharedBlock& body, const Arguments& arguments);
    [[nodiscard]] Arguments expand(const std::vector<Word>& words) const;
    [[nodiscard]] std::vector<std::string> expand_word(const Word& word) const;
    [[nodiscard]] std::string variable(std::string_view name) const;
    void set(std::string_view name, std::string value);
    [[nodiscard]] bool condition(const SharedBlock& block);
    /// Prints "error: …" and gives the failing status.
    int error(std::string message, LoaderMessage::Kind kind = LoaderMessage::Kind::Other, int number = 0);
    int bad_argument(std::string message) {
        return error(std::move(message), LoaderMessage::Kind::Other, number_of::bad_argument);
    }
    [[nodiscard]] FileReference reference(const Opened& opened, std::string_view written) const;
    Opened open(std::string_view path, bool as_stored = false) const {
        return world_.open(path, variable("root"), context_.modules, as_stored);
    }
    /// The configuration goes on in `opened`, which is not read here: nothing behind it can be told.
    int goes_on_unread(std::string why);
    void stop(Code code, std::string reason);
    void command_missing(const Arguments& arguments, std::string why);
    bool may_go_on();

    // The commands, in three files by what they concern.
    int cmd_set(const Arguments& a, const Command& c);
    int cmd_unset(const Arguments& a, const Command& c);
    int cmd_export(const Arguments& a, const Command& c);
    int cmd_true(const Arguments& a, const Command& c);
    int cmd_false(const Arguments& a, const Command& c);
    int cmd_test(const Arguments& a, const Command& c);
    int cmd_regexp(const Arguments& a, const Command& c);
    int cmd_echo(const Arguments& a, const Command& c);
    int cmd_return(const Arguments& a, const Command& c);
    int cmd_break(const Arguments& a, const Command& c);
    int cmd_shift(const Arguments& a, const Command& c);
    int cmd_setparams(const Arguments& a, const Command& c);
    int cmd_eval(const Arguments& a, const Command& c);
    int cmd_source(const Arguments& a, const Command& c);
    int cmd_configfile(const Arguments& a, const Command& c);
    int cmd_load_env(const Arguments& a, const Command& c);
    int cmd_save_env(const Arguments& a, const Command& c);
    int cmd_search(const Arguments& a, const Command& c);
    int cmd_probe(const Arguments& a, const Command& c);
    int cmd_insmod(const Arguments& a, const Command& c);
    int cmd_cryptomount(const Arguments& a, const Command& c);
    int cmd_menuentry(const Arguments& a, const Command& c);
    int cmd_blscfg(const Arguments& a, const Command& c);
    int cmd_linux(const Arguments& a, const Command& c);
    int cmd_initrd(const Arguments& a, const Command& c);
    int cmd_devicetree(const Arguments& a, const Command& c);
    int cmd_chainloader(const Arguments& a, const Command& c);
    int cmd_multiboot(const Arguments& a, const Command& c);
    int cmd_boot(const Arguments& a, const Command& c);
    int cmd_leave(const Arguments& a, const Command& c);
    int cmd_nothing(const Arguments& a, const Command& c);
    int cmd_rmmod(const Arguments& a, const Command& c);
    int cmd_tr(const Arguments& a, const Command& c);
    int cmd_loadfont(const Arguments& a, const Command& c);
    int cmd_reads_a_file(const Arguments& a, const Command& c);

    /// What `test` learns of a file: its own entry in its directory, a link not followed.
    struct FileInfo {
        bool exists = false, directory = false;
        std::optional<std::int64_t> modified;  ///< none: GRUB's driver tells no times
    };
    [[nodiscard]] FileInfo look_at(std::string_view path) const;

    std::optional<std::string> refuses_to_open(const Volume& volume);
    int run_text(std::string_view text, const std::string& name);
    int search_for(std::string_view kind, std::string_view key, std::string_view variable_name,
                   const std::vector<std::string>& hints);
    [[nodiscard]] bool matches(const Device& device, std::string_view kind, std::string_view key) const;

    World& world_;
    Context context_;
    Flow flow_ = Flow::Go;
    int status_ = 0;
    std::vector<Arguments> parameters_;  ///< positional parameters, innermost last
    std::string left_by_;
    std::string file_;  ///< place of the file being run
    int line_ = 0;
    int depth_ = 0;
    int functions_ = 0;       ///< that are being run, one within the other
    int loops_ = 0;           ///< that are being run in the function
    int breaks_ = 0;          ///< how many of them are being left
    bool continues_ = false;  ///< the last of them goes on
};

}  // namespace herberge::grub
