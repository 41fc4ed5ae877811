// SPDX-License-Identifier: MIT
#include "loader/grub/interpreter.hpp"

#include <herberge/budget.hpp>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>

namespace herberge::grub {

namespace {

constexpr std::size_t most_messages = 400;
constexpr std::size_t most_message = 1024;
constexpr int most_depth = 48;
constexpr std::uint64_t most_config = 8U << 20U;
constexpr std::size_t most_variable_bytes = 1U << 20U;  // of all variables together

}  // namespace

bool Interpreter::may_go_on() {
    auto& budget = world_.budget();
    if (budget.steps > 0) --budget.steps;
    if ((!charge(Cost::Steps, 1) || budget.spent()) && flow_ == Flow::Go) flow_ = Flow::Left;
    return flow_ == Flow::Go;
}

void Interpreter::set(std::string_view name, std::string value) {
    // Its parentheses are taken off (grub-core/kern/env.c with kern/main.c, grub_env_write_root).
    if (name == "root" && value.size() > 1 && value.front() == '(' && value.back() == ')')
        value = value.substr(1, value.size() - 2);
    const auto found = context_.variables.find(name);
    const std::size_t before = found != context_.variables.end() ? found->second.size() + name.size() : 0;
    const std::size_t after =
        context_.variable_bytes - std::min(before, context_.variable_bytes) + name.size() + value.size();
    if (after > most_variable_bytes) {
        error("out of memory.");
        return;
    }
    context_.variable_bytes = after;
    if (name == "prefix") world_.prefix_was_set(value, context_.modules);
    if (found != context_.variables.end()) found->second = std::move(value);
    else context_.variables.emplace(std::string(name), std::move(value));
}

int Interpreter::goes_on_unread(std::string why) {
    context_.unread = std::move(why);
    flow_ = Flow::Left;
    return 0;
}

int Interpreter::error(std::string message, LoaderMessage::Kind kind, int number) {
    // By what is said, where nothing else is told.
    if (number == 0 && (message.starts_with("file `") || message.starts_with("no such device: ")))
        number = number_of::file_not_found;
    if (number == 0 && (message.starts_with("disk `") || message == "no such device.")) number = number_of::device;
    if (number == 0 && (message == "filename expected." || message == "one argument expected." ||
                        message.starts_with("you need to load the kernel first")))
        number = number_of::bad_argument;
    if (number == 0 && (message == "not a regular file." || message == "invalid environment block."))
        number = number_of::bad_file_type;
    if (number == 0) number = 1;
    message.resize(std::min(message.size(), most_message));
    if (context_.messages.size() < most_messages)
        context_.messages.push_back({"error: " + std::move(message), file_, line_, kind});
    return number;
}

void Interpreter::stop(Code code, std::string reason) {
    // The last failing command decides, as the last `linux` does.
    context_.loaded.stop = make_finding(code, std::move(reason));
}

std::string Interpreter::variable(std::string_view name) const {
    if (name == "?") return fmt::format("{}", status_);
    // Outside of functions and entries there are none, whatever was set.
    const bool positional = name == "#" || name == "@" || name == "*" ||
                            (!name.empty() && std::ranges::all_of(name, [](char c) { return c >= '0' && c <= '9'; }));
    if (positional && parameters_.empty()) return {};
    if (positional) {
        const auto& args = parameters_.back();
        if (name == "#") return fmt::format("{}", args.size());
        if (name == "@" || name == "*") return fmt::format("{}", fmt::join(args, " "));
        const auto index = name.size() < 6 ? std::stoul(std::string(name)) : 0;
        return index >= 1 && index <= args.size() ? args[index - 1] : std::string{};
    }
    const auto found = context_.variables.find(name);
    return found != context_.variables.end() ? found->second : std::string{};
}

std::vector<std::string> Interpreter::expand_word(const Word& word) const {
    std::vector<std::string> out;
    std::string current;
    bool present = false;  // quotes keep an empty word
    const std::size_t room = world_.budget().bytes;
    for (const auto& part : word.parts) {
        if (current.size() > room) break;
        if (part.kind == Part::Kind::Text) {
            current += part.text;
            present = present || part.quoted || !part.text.empty();
            continue;
        }
        // "$@" keeps the parameters apart even inside quotes.
        if (part.quoted && part.text == "@" && !parameters_.empty()) {
            const auto& args = parameters_.back();
            for (std::size_t i = 0; i < args.size(); ++i) {
                if (i > 0) {
                    out.push_back(current);
                    current.clear();
                }
                current += args[i];
                present = true;
            }
            continue;
        }
        const std::string value = variable(part.text);
        if (part.quoted) {
            current += value;
            present = true;
            continue;
        }
        std::size_t at = 0;
        while (at < value.size()) {
            const auto space = std::min(value.find(' ', at), value.size());
            if (space > at) {
                current += value.substr(at, space - at);
                present = true;
            }
            if (space < value.size() && present) {
                out.push_back(current);
                current.clear();
                present = false;
            }
            at = space + 1;
        }
    }
    if (present) out.push_back(current);
    return out;
}

Interpreter::Arguments Interpreter::expand(const std::vector<Word>& words) const {
    Arguments out;
    auto& budget = world_.budget();
    for (const auto& word : words)
        for (auto& text : expand_word(word)) {
            budget.bytes -= std::min(budget.bytes, text.size() + 1);
            if (budget.spent()) return out;
            out.push_back(std::move(text));
        }
    return out;
}

bool Interpreter::condition(const SharedBlock& block) {
    run_block(*block);
    return status_ == 0;
}

void Interpreter::run_block(const Block& block) {
    for (const auto& command : block) {
        if (!may_go_on()) return;
        run_command(command);
    }
}

/// After a loop's body: whether it is left; further loops around it may be left as well.
bool Interpreter::loop_ends() {
    if (flow_ != Flow::Break) return flow_ != Flow::Go;
    const bool goes_on = continues_ && breaks_ == 1;
    if (--breaks_ == 0) flow_ = Flow::Go;
    return !goes_on;
}

void Interpreter::run_loop(const Command& command) {
    ++loops_;
    if (command.kind == Command::Kind::For) {
        for (const auto& value : expand(command.words)) {
            if (!may_go_on()) break;
            set(command.name, value);
            run_block(*command.block);
            if (loop_ends()) break;
        }
    } else {
        while (may_go_on() && condition(command.conditions[0]) == (command.kind == Command::Kind::While)) {
            if (!may_go_on()) break;
            run_block(*command.block);
            if (loop_ends()) break;
        }
    }
    --loops_;
}

void Interpreter::run_command(const Command& command) {
    line_ = command.line;
    if (depth_ >= most_depth) {
        error("maximum recursion depth exceeded.");
        status_ = 1;
        return;
    }
    ++depth_;
    switch (command.kind) {
        case Command::Kind::Simple: run_simple(command); break;
        case Command::Kind::Function:
            context_.functions[command.name] = command.block;
            status_ = 0;
            break;
        case Command::Kind::If: {
            bool done = false;
            for (std::size_t i = 0; i < command.conditions.size() && !done && flow_ == Flow::Go; ++i)
                if (condition(command.conditions[i])) {
                    run_block(*command.branches[i]);
                    done = true;
                }
            if (!done && flow_ == Flow::Go) {
                status_ = 0;
                if (command.branches.size() > command.conditions.size()) run_block(*command.branches.back());
            }
            break;
        }
        case Command::Kind::For:
        case Command::Kind::While:
        case Command::Kind::Until: run_loop(command); break;
    }
    --depth_;
}

void Interpreter::run_simple(const Command& command) {
    Arguments arguments = expand(command.words);
    if (arguments.empty()) {
        status_ = 0;
        return;
    }
    bool invert = false;
    if (arguments[0] == "!") {
        arguments.erase(arguments.begin());
        if (arguments.empty()) {
            status_ = error("no command is specified.");
            return;
        }
        invert = true;
    }
    // NAME=VALUE at the start is an assignment, whatever follows.
    const auto equals = arguments[0].find('=');
    if (equals != std::string::npos && equals > 0 && !context_.functions.contains(arguments[0])) {
        set(arguments[0].substr(0, equals), arguments[0].substr(equals + 1));
        status_ = 0;
        return;
    }
    status_ = dispatch(arguments, command);
    if (invert) status_ = status_ == 0 ? 1 : 0;
}

int Interpreter::dispatch(const Arguments& arguments, const Command& command) {
    const auto& name = arguments[0];
    static constexpr std::array<std::string_view, 24> in_normal = {"set",
                                                                   "unset",
                                                                   "export",
                                                                   "menuentry",
                                                                   "submenu",
                                                                   "source",
                                                                   ".",
                                                                   "configfile",
                                                                   "normal",
                                                                   "normal_exit",
                                                                   "setparams",
                                                                   "break",
                                                                   "continue",
                                                                   "shift",
                                                                   "return",
                                                                   "insmod",
                                                                   "rmmod",
                                                                   "lsmod",
                                                                   "clear",
                                                                   "ls",
                                                                   "dump",
                                                                   "exit",
                                                                   "background_color",
                                                                   "eval"};
    const auto& known = handlers();
    const auto handler = known.find(name);
    const bool native = std::ranges::find(in_normal, name) != in_normal.end();
    if (!native) {
        // Commands of other modules are loaded when first used (grub_dyncmd_dispatcher), and come before functions of
        // their names (grub_script_execute_cmdline).
        const std::string module = world_.module_of_command(name);
        if (module.empty())
            if (const auto function = context_.functions.find(name); function != context_.functions.end())
                return call_function(function->second, arguments);
        if (!module.empty()) {
            if (const auto problem = world_.load_module(module, variable("prefix"), context_.modules)) {
                error(problem->what, module_kind(*problem));
                command_missing(arguments, fmt::format("the module {} that provides `{}' cannot be loaded: {}", module,
                                                       name, problem->what));
                return 1;
            }
        } else if (!world_.may_have(name, context_.modules)) {
            command_missing(arguments,
                            world_.lost_list().empty()
                                ? fmt::format("no loaded module has the command `{}', and {}/{}/command.lst tells none "
                                              "that does",
                                              name, variable("prefix"), world_.platform())
                                : fmt::format("no loaded module has the command `{}', and {}, which may tell one that "
                                              "does, cannot be read",
                                              name, world_.lost_list()));
            // It is told, and counts as done (grub-core/script/execute.c, grub_script_execute_cmdline; really started).
            error(fmt::format("can't find command `{}'.", name));
            return 0;
        }
    }
    if (handler == known.end()) return 0;  // its module is there; it does nothing that matters to a start
    return (this->*handler->second)(arguments, command);
}

/// A command that should load something, and that is not to be had: what it was meant to load is kept,
/// so that the entry still belongs to its system.
void Interpreter::command_missing(const Arguments& arguments, std::string why) {
    const auto& name = arguments[0];
    const bool kernel = name.starts_with("linux");
    if (!kernel && name != "chainloader" && !name.starts_with("multiboot")) return;
    context_.loaded = Loaded{};
    context_.loaded.kind = kernel                  ? EntryKind::Linux
                           : name == "chainloader" ? EntryKind::Chainload
                                                   : EntryKind::Multiboot;
    if (arguments.size() > 1) {
        context_.loaded.kernel = {reference(open(arguments[1]), arguments[1])};
        context_.loaded.arguments = fmt::format("{}", fmt::join(arguments.begin() + 2, arguments.end(), " "));
    }
    stop(Code::GrubModuleMissing, std::move(why));
}

int Interpreter::call_function(const SharedBlock& body, const Arguments& arguments) {
    parameters_.emplace_back(arguments.begin() + 1, arguments.end());
    status_ = 0;
    ++functions_;
    const int loops = std::exchange(loops_, 0);
    run_block(*body);
    loops_ = loops;
    --functions_;
    if (flow_ == Flow::Return) flow_ = Flow::Go;
    parameters_.pop_back();
    return status_;
}

int Interpreter::run_text(std::string_view text, const std::string& name) {
    const std::string before = std::exchange(file_, name);
    Lines lines(text);
    while (flow_ == Flow::Go) {
        const auto line = lines.next();
        if (!line) break;
        line_ = lines.number();
        const Parsed parsed = parse(*line, lines);
        if (parsed.failed) {
            line_ = parsed.line;
            for (const auto& message : parsed.messages)
                if (context_.messages.size() < most_messages)
                    context_.messages.push_back({message, file_, parsed.line, LoaderMessage::Kind::Syntax});
            continue;
        }
        run_block(parsed.commands);
        // Outside of a function it ends what is run at once, and the next line goes on (really started).
        if (flow_ == Flow::Return && functions_ == 0) flow_ = Flow::Go;
    }
    file_ = before;
    return status_;
}

bool Interpreter::run_file(std::string_view path, Opened* why) {
    auto opened = open(path);
    if (opened.source) {
        // What a file costs is its size, however short its lines are.
        auto& budget = world_.budget();
        budget.bytes -= std::min<std::size_t>(budget.bytes, static_cast<std::size_t>(opened.source->size()));
        const auto text = opened.source->text(most_config);
        if (text) {
            if (depth_ >= most_depth) {
                error("maximum recursion depth exceeded.");
                return true;
            }
            ++depth_;
            const auto file = variable("config_file"), directory = variable("config_directory");
            const auto full = path.starts_with('(') ? std::string(path) : fmt::format("({}){}", variable("root"), path);
            set("config_file", full);
            set("config_directory", full.substr(0, full.rfind('/')));
            context_.exported.insert({"config_file", "config_directory"});
            run_text(*text, opened.place);
            set("config_file", file);
            set("config_directory", directory);
            --depth_;
            return true;
        }
        // GRUB has no such limit: what is not read here is not broken there.
        const bool large = text.error().kind == ErrorKind::TooLarge;
        opened.failure = large ? Opened::Failure::Unread : Opened::Failure::Read;
        opened.message =
            large ? fmt::format("{} is larger ({}) than is read here", opened.place, size_text(opened.source->size()))
                  : text.error().text();
    }
    if (why != nullptr) *why = std::move(opened);
    return false;
}

void Interpreter::run_entry(const Definition& definition) {
    file_ = definition.entry.place;
    line_ = definition.entry.line;
    // What another entry set is nothing to this one.
    world_.prefix_was_set(variable("prefix"), context_.modules);
    set("chosen", definition.entry.id.empty() ? definition.entry.title : definition.entry.id);
    parameters_.push_back(definition.arguments);
    if (definition.body)
        for (const auto& command : *definition.body) {
            if (!may_go_on()) break;
            run_command(command);
            if (flow_ == Flow::Return) flow_ = Flow::Go;
        }
    parameters_.pop_back();
}

void Interpreter::run_embedded(std::string_view text) {
    const std::string before = std::exchange(file_, "embedded configuration");
    Lines lines(text);
    while (flow_ == Flow::Go) {
        const auto line = lines.next();
        if (!line) break;
        line_ = lines.number();
        Command command;
        command.line = line_;
        command.words = split_words(*line);
        if (!command.words.empty()) run_simple(command);
    }
    file_ = before;
}

FileReference Interpreter::reference(const Opened& opened, std::string_view written) const {
    FileReference out;
    out.written = written;
    out.place = opened.place;
    out.volume = opened.volume;
    out.line = line_;
    if (opened.source) {
        out.file = opened.resolved.file.id;
        out.real_path = opened.resolved.path;
        out.links = opened.resolved.links;
        out.size = opened.resolved.file.size;
    } else {
        out.miss(opened.failure == Opened::Failure::Read     ? Lack::Unreadable
                 : opened.failure == Opened::Failure::Unread ? Lack::Unsupported
                                                             : Lack::Absent,
                 opened.message);
        if (opened.failure == Opened::Failure::File && opened.volume != nullptr &&
            opened.volume->files(Observer::Grub) != nullptr) {
            const auto slash = written.find(')');
            out.near_misses = near_misses(*opened.volume->files(Observer::Grub),
                                          slash == std::string_view::npos ? written : written.substr(slash + 1));
        }
    }
    return out;
}

}  // namespace herberge::grub
