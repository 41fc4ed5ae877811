// SPDX-License-Identifier: MIT
#include "loader/uboot/console.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include <herberge/budget.hpp>
#include <herberge/lines.hpp>

namespace herberge::loader::uboot {

std::optional<std::uint64_t> number_of(std::string_view text) {
    if (text.starts_with("0x") || text.starts_with("0X")) text.remove_prefix(2);
    std::uint64_t out = 0;
    const auto read = std::from_chars(text.data(), text.data() + text.size(), out, 16);
    if (text.empty() || read.ec != std::errc{} || read.ptr != text.data() + text.size()) return std::nullopt;
    return out;
}

std::vector<std::string> words_of(std::string_view text) {
    std::vector<std::string> out;
    for (std::string_view rest = text; !rest.empty();) {
        const auto end = std::min(rest.find(' '), rest.size());
        if (end > 0) out.emplace_back(rest.substr(0, end));
        rest.remove_prefix(std::min(end + 1, rest.size()));
    }
    return out;
}

Console::Console(const Machine& machine, const Board& board, Variables variables, bool native, Build build)
    : machine_(machine), board_(board), variables_(std::move(variables)), native_(native), build_(std::move(build)) {}

Outcome Console::boot(const std::string& variable) {
    run_variable(variable);
    return {std::move(started_),
            std::move(troubles_),
            std::move(unfollowed_),
            std::move(looked_at_),
            std::move(screen_),
            std::move(findings_),
            dead_};
}

std::string Console::value(std::string_view name) const {
    const auto found = variables_.find(name);
    return found != variables_.end() ? found->second : std::string{};
}

/// lookup_param: the environment's before the shell's own; "name:-other", "name:=other", "name:+other".
std::string Console::shell_value(std::string_view word) {
    if (word == "?") return std::to_string(last_);
    const auto colon = word.find(':');
    const std::string name(word.substr(0, colon));
    std::string held = value(name);
    if (held.empty())
        if (const auto own = local_.find(name); own != local_.end()) held = own->second;
    const char what = colon + 1 < word.size() && colon != std::string_view::npos ? word[colon + 1] : '\0';
    if (what != '-' && what != '=' && what != '+') return held;
    std::string other(word.substr(colon + 2));
    // The last is the wrong way round there.
    if (!held.empty()) return what == '+' ? std::string{} : held;
    if (what == '=') set_local(name, other);
    return other;
}

/// set_local_var: an empty value changes nothing that is there.
void Console::set_local(const std::string& name, std::string value) {
    constexpr std::size_t most = 1000;
    std::erase(value, '"');
    if (value.empty()) local_.try_emplace(name);
    else if (local_.size() < most || local_.contains(name)) local_.insert_or_assign(name, std::move(value));
}

void Console::set(const std::string& name, const std::string& value) {
    constexpr std::size_t most = 10'000;
    if (value.empty()) variables_.erase(name);
    else if (variables_.size() < most) variables_.insert_or_assign(name, value.substr(0, std::size_t{64} << 10U));
}

bool Console::is_early() const {
    const auto own = version();
    return own.find(" 2023.01") != std::string::npos || own.find(" 2022.") != std::string::npos ||
           own.find(" 2021.") != std::string::npos;
}

/// "${name}" and "$(name)" in a text that no shell reads; within single quotes none, and a backslash takes the meaning
/// from what follows it (common/cli_simple.c, cli_simple_process_macros).
std::string Console::with_variables(std::string_view text) const {
    constexpr std::size_t most = std::size_t{64} << 10U;
    std::string out;
    std::string name;
    enum class Within : std::uint8_t { Text, Dollar, Name, Quotes } within = Within::Text;
    char before = '\0';
    for (std::size_t i = 0; i < text.size() && out.size() < most; ++i) {
        char c = text[i];
        if (within != Within::Quotes && c == '\\' && before != '\\') {
            if (++i == text.size()) break;
            before = c;
            c = text[i];
        }
        const bool plain = before == '\\';
        switch (within) {
            case Within::Text:
                if (c == '\'' && !plain) within = Within::Quotes;
                else if (c == '$' && !plain) within = Within::Dollar;
                else out += c;
                break;
            case Within::Dollar:
                if (c != '(' && c != '{') out += {'$', c};
                name.clear();
                within = c == '(' || c == '{' ? Within::Name : Within::Text;
                break;
            case Within::Name:
                if (c != ')' && c != '}') {
                    name += c;
                    break;
                }
                out += value(name);
                within = Within::Text;
                break;
            case Within::Quotes:
                if (c == '\'' && !plain) within = Within::Text;
                else out += c;
                break;
        }
        before = c;
    }
    return out;
}

void Console::say(std::string line) {
    constexpr std::size_t most = 400;
    if (screen_.size() < most) screen_.push_back(std::move(line));
}

Evidence Console::here(std::string found) const {
    if (frames_.empty()) return evidence_place("U-Boot's environment", {}, std::move(found));
    const Frame& frame = frames_.back();
    if (frame.place.empty())
        return evidence_place(fmt::format("U-Boot's variable {}", frame.variable), {}, std::move(found));
    return evidence_line(frame.place, std::max(1, line_), {}, std::move(found));
}

void Console::trouble(Code code, std::string text, std::vector<Evidence> evidence, const std::string& screen,
                      std::optional<Menu> menu) {
    constexpr std::size_t most = 64;
    for (auto& line : lines_of(screen)) say(std::move(line));
    if (troubles_.size() >= most && !dead_) return;
    if (troubles_.size() >= most) troubles_.pop_back();
    troubles_.push_back({make_finding(code, std::move(text), std::move(evidence), screen), std::move(menu)});
}

/// insert_var_value: the values of its variables, in which a line's end becomes a blank.
std::string Console::with_values(const Word& word) {
    if (!word.has_variables()) return word.text;
    constexpr std::size_t most = std::size_t{64} << 10U;
    std::string out;
    bool name = false;
    for (std::string_view rest = word.text; !rest.empty() && out.size() < most; name = !name) {
        const auto end = std::min(rest.find(Word::marker), rest.size());
        out += name ? shell_value(rest.substr(0, end)) : std::string(rest.substr(0, end));
        rest.remove_prefix(std::min(end + 1, rest.size()));
    }
    if (out.size() > most) out.resize(most);
    std::ranges::replace(out, '\n', ' ');
    return out;
}

/// What a command is given (run_pipe_real): with variables in it, it is put together anew and read once more. None:
/// that cannot be read.
std::optional<Console::Words> Console::expand(std::span<const Word> words) {
    constexpr std::size_t most = 4096;
    Words out;
    if (std::ranges::none_of(words, &Word::has_variables)) {
        for (const auto& word : words) out.push_back(word.text);
        return out;
    }
    std::string all;
    for (const auto& word : words) {
        const char* quote = word.quoted ? "'" : "";
        all += fmt::format("{}{}{}{}", all.empty() ? "" : " ", quote, with_values(word), quote);
    }
    const auto again = parse_again(all);
    if (!again) return std::nullopt;
    for (const auto& word : *again)
        if (out.size() < most) out.push_back(word.text);
    return out;
}

int Console::run_text(std::string_view text, Frame frame) {
    if (static_cast<int>(frames_.size()) >= most_depth) {
        trouble(Code::UbootCommandsEnd, "its scripts and variables run each other without an end", {here()},
                "(the prompt =>, without a message)");
        exiting_ = true;
        return 1;
    }
    const Script script = parse_script(text);
    frames_.push_back(std::move(frame));
    const int line_before = line_;
    last_ = run_block(script.block);
    leaving_ = false;
    if (!script.error.empty() && !over()) {
        line_ = script.error_line;
        trouble(Code::UbootCommandsEnd, fmt::format("its commands cannot be read on: {}", script.error), {here()},
                "syntax error");
        last_ = 1;
    }
    line_ = line_before;
    frames_.pop_back();
    return last_;
}

int Console::run_block(const Block& block) {
    // Once a part of "a && b || c" is not run, neither is the rest up to the next separator (run_list_real).
    bool skipping = false;
    for (const auto& statement : block) {
        if (over()) break;
        using Link = Statement::Link;
        skipping = statement.link != Link::Always && (skipping || (statement.link == Link::And && last_ != 0) ||
                                                      (statement.link == Link::Or && last_ == 0));
        if (!skipping) last_ = run_statement(statement);
    }
    return last_;
}

int Console::run_statement(const Statement& statement) {
    if (++steps_ > most_steps || !charge(Cost::Steps, 1)) {
        steps_ = most_steps + 1;
        trouble(Code::UbootCommandsEnd, "its commands go on longer than is followed", {here()},
                "(the prompt =>, without a message)");
        return 1;
    }
    line_ = statement.line;
    switch (statement.kind) {
        case Statement::Kind::Simple: return run_simple(statement.words);
        case Statement::Kind::If:
            for (const auto& [condition, body] : statement.branches) {
                last_ = 0;
                run_block(condition);
                if (over()) return last_;
                if (last_ != 0) continue;
                return run_block(body);
            }
            last_ = 0;
            return run_block(statement.otherwise);
        case Statement::Kind::For:
        case Statement::Kind::While:
        case Statement::Kind::Until: break;
    }
    return run_loop(statement);
}

int Console::run_loop(const Statement& statement) {
    const auto& [condition, body] = statement.branches.front();
    if (statement.kind == Statement::Kind::For) {
        for (const auto& word : statement.words)
            // Quotes do not keep a value together here (make_list_in).
            for (const auto& one : words_of(with_values(word))) {
                if (over()) break;
                set_local(statement.variable, one);
                last_ = 0;
                run_block(body);
            }
        return last_;
    }
    while (!over()) {
        last_ = 0;
        run_block(condition);
        if (over() || (last_ == 0) != (statement.kind == Statement::Kind::While)) break;
        last_ = 0;
        run_block(body);
        if (++steps_ > most_steps) {
            trouble(Code::UbootCommandsEnd, "a loop of its commands has no end here", {here()},
                    "(the prompt =>, without a message)");
        }
    }
    return 0;
}

bool Build::has(std::string_view command) const {
    // "help" of Debian 12's U-Boot for the emulated boards, 2023.01.
    static constexpr std::string_view of_the_emulated[] = {
        "?",     "base",     "bdinfo",   "blkcache", "boot",     "bootd",    "bootefi", "bootelf", "bootflow",
        "booti", "bootm",    "bootp",    "bootvx",   "bootz",    "chpart",   "cmp",     "coninfo", "cp",
        "crc32", "date",     "dfu",      "dhcp",     "dm",       "echo",     "editenv", "env",     "erase",
        "exit",  "ext2load", "ext2ls",   "ext4load", "ext4ls",   "ext4size", "false",   "fatinfo", "fatload",
        "fatls", "fatmkdir", "fatrm",    "fatsize",  "fatwrite", "fdt",      "flinfo",  "fstype",  "fstypes",
        "go",    "gzwrite",  "help",     "iminfo",   "imxtract", "itest",    "ln",      "load",    "loadb",
        "loads", "loadx",    "loady",    "loop",     "ls",       "lzmadec",  "md",      "mii",     "mm",
        "mtd",   "mtdparts", "mw",       "net",      "nfs",      "nm",       "nvme",    "panic",   "part",
        "pci",   "ping",     "poweroff", "printenv", "protect",  "pxe",      "qfw",     "random",  "reset",
        "run",   "save",     "saveenv",  "scsi",     "scsiboot", "setenv",   "setexpr", "showvar", "size",
        "sleep", "source",   "sysboot",  "test",     "tftpboot", "tpm",      "tpm2",    "true",    "unlz4",
        "unzip", "usb",      "usbboot",  "version",  "virtio"};
    const auto name = command.substr(0, command.find('.'));
    if (emulated) return std::ranges::find(of_the_emulated, name) != std::end(of_the_emulated);
    // A command's name stands in the program with a zero behind it, perhaps as the end of a longer text.
    return program.empty() || program.find(std::string(name) + '\0') != std::string::npos;
}

/// "name=value" sets a variable of the shell, also before a command.
int Console::run_simple(std::span<const Word> words) {
    while (!words.empty()) {
        const auto equals = assignment_in(words.front().text);
        if (equals == 0) break;
        const auto value = with_values(words.front());
        set_local(value.substr(0, equals), value.substr(equals + 1));
        words = words.subspan(1);
    }
    if (words.empty()) return 0;
    const auto given = expand(words);
    if (!given) {
        say("syntax error");
        return last_;
    }
    return run_words(*given);
}

int Console::run_words(const Words& words) {
    if (words.empty()) return 0;
    const auto& known = commands();
    const auto found = std::ranges::find(known, std::string_view(words[0]), &Command::name);
    // The program is searched once for each command that is known here, and for no other word.
    bool there = found == known.end() && !build_.emulated;
    if (!there) {
        const auto [asked, fresh] = built_with_.try_emplace(words[0], false);
        if (fresh) asked->second = build_.has(words[0]);
        there = asked->second;
        if (found == known.end()) built_with_.erase(asked);
    }
    if (!there) {
        say(fmt::format("Unknown command '{}' - try 'help'", words[0]));
        return 1;
    }
    if (found != known.end()) return (this->*found->handler)(words);
    return unfollowed(words[0]);
}

int Console::run_variable(const std::string& name) {
    if (const auto found = variables_.find(name); found != variables_.end())
        return run_text(std::string(found->second), {{}, name});
    if (native_ && name == "distro_bootcmd") {
        return scan(words_of(value("boot_targets")));
    }
    trouble(Code::UbootCommandsEnd, fmt::format("the variable {} that it is to run is not defined", printable(name)),
            {here(name)}, fmt::format("## Error: \"{}\" not defined", name));
    return 1;
}

}  // namespace herberge::loader::uboot
