// SPDX-License-Identifier: MIT
#include "loader/grub/script.hpp"

#include <algorithm>
#include <array>
#include <cctype>

namespace herberge::grub {

std::string_view Word::bare() const {
    if (parts.size() == 1 && parts[0].kind == Part::Kind::Text && !parts[0].quoted) return parts[0].text;
    return {};
}

std::optional<std::string> Lines::next() {
    while (!text_.empty()) {
        const auto end = text_.find('\n');
        std::string line(text_.substr(0, end));
        text_.remove_prefix(end == std::string_view::npos ? text_.size() : end + 1);
        ++number_;
        // Carriage returns never reach the parser (grub_file_getline).
        std::erase(line, '\r');
        if (!line.starts_with('#')) return line;
    }
    return std::nullopt;
}

namespace {

constexpr int most_nesting = 64;

bool is_name_start(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_'; }
bool is_name(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }

struct Token {
    enum class Kind : std::uint8_t { Word, Newline, Semicolon, Open, Close, Bad, End } kind = Kind::End;
    Word word;
    int line = 0;
};

/// Turns lines into tokens; asks for another line only inside quotes, behind a backslash, or when told to.
class Lexer {
public:
    Lexer(std::string line, Lines& more) : text_(std::move(line)), more_(more), line_(more.number()) { text_ += '\n'; }

    /// Another line is wanted because a construct is open.
    bool refill() {
        auto line = more_.next();
        if (!line) return false;
        text_ = std::move(*line) + '\n';
        at_ = 0;
        line_ = more_.number();
        return true;
    }
    [[nodiscard]] bool exhausted() const { return at_ >= text_.size(); }
    [[nodiscard]] int line() const { return line_; }
    [[nodiscard]] bool hit_end() const { return hit_end_; }

    Token next() {
        while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t')) ++at_;
        Token out;
        out.line = line_;
        if (at_ >= text_.size()) return out;
        const char c = text_[at_];
        if (c == '#') {
            while (at_ < text_.size() && text_[at_] != '\n') ++at_;
            return next();
        }
        auto single = [&](Token::Kind kind) {
            ++at_;
            out.kind = kind;
            return out;
        };
        switch (c) {
            case '\n': return single(Token::Kind::Newline);
            case ';':
                if (at_ + 1 < text_.size() && text_[at_ + 1] == ';') return single(Token::Kind::Bad);
                return single(Token::Kind::Semicolon);
            case '{': return single(Token::Kind::Open);
            case '}': return single(Token::Kind::Close);
            case '|':
            case '&':
            case '<':
            case '>': return single(Token::Kind::Bad);
            default: break;
        }
        out.kind = Token::Kind::Word;
        bad_ = false;
        out.word = word();
        if (bad_) out.kind = Token::Kind::Bad;
        if (hit_end_) out.kind = Token::Kind::End;
        return out;
    }

private:
    /// More input inside a quoted string; false at the end of the file.
    bool extend() {
        auto line = more_.next();
        if (!line) {
            hit_end_ = true;
            return false;
        }
        text_ += *line + '\n';
        line_ = more_.number();
        return true;
    }

    static void append(Word& word, std::string_view text, bool quoted) {
        if (!word.parts.empty() && word.parts.back().kind == Part::Kind::Text && word.parts.back().quoted == quoted)
            word.parts.back().text += text;
        else word.parts.push_back({Part::Kind::Text, std::string(text), quoted});
    }

    /// A variable at `$`; without a name it is a mistake, but for who only splits words.
    void variable(Word& word, bool quoted) {
        std::size_t at = at_ + 1;
        const bool braces = at < text_.size() && text_[at] == '{';
        if (braces) ++at;
        const std::size_t from = at;
        if (at < text_.size()) {
            if (is_name_start(text_[at]))
                while (at < text_.size() && is_name(text_[at])) ++at;
            else if (std::isdigit(static_cast<unsigned char>(text_[at])) != 0)
                while (at < text_.size() && std::isdigit(static_cast<unsigned char>(text_[at])) != 0) ++at;
            else if (std::string_view("?#*@").find(text_[at]) != std::string_view::npos) ++at;
        }
        const bool closed = !braces || (at < text_.size() && text_[at] == '}');
        if (at == from || !closed) {
            bad_ = true;
            append(word, "$", quoted);
            ++at_;
            return;
        }
        word.parts.push_back({Part::Kind::Variable, text_.substr(from, at - from), quoted});
        at_ = at + (braces ? 1 : 0);
    }

    void double_quoted(Word& word) {
        ++at_;
        append(word, "", true);
        for (;;) {
            if (at_ >= text_.size() && !extend()) return;
            const char c = text_[at_];
            if (c == '"') {
                ++at_;
                return;
            }
            if (c == '\\') {
                if (at_ + 1 >= text_.size() && !extend()) return;
                const char escaped = text_[at_ + 1];
                if (escaped == '$' || escaped == '"' || escaped == '\\')
                    append(word, std::string_view(&escaped, 1), true);
                else if (escaped != '\n') append(word, text_.substr(at_, 2), true);
                at_ += 2;
            } else if (c == '$') {
                variable(word, true);
            } else {
                append(word, std::string_view(&text_[at_], 1), true);
                ++at_;
            }
        }
    }

    void single_quoted(Word& word) {
        ++at_;
        append(word, "", true);
        for (;;) {
            if (at_ >= text_.size() && !extend()) return;
            const char c = text_[at_++];
            if (c == '\'') return;
            append(word, std::string_view(&c, 1), true);
        }
    }

    Word word() {
        Word out;
        while (at_ < text_.size() && !hit_end_) {
            const char c = text_[at_];
            if (std::string_view(" \t\n;{}|&<>").find(c) != std::string_view::npos) break;
            if (c == '\\') {
                if (at_ + 1 < text_.size() && text_[at_ + 1] == '\n') {
                    // The line continues on the next one.
                    text_.resize(at_);
                    if (!extend()) break;
                    if (out.parts.empty()) {
                        while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t')) ++at_;
                    }
                    continue;
                }
                if (at_ + 1 < text_.size()) append(out, std::string_view(&text_[at_ + 1], 1), true);
                at_ += 2;
            } else if (c == '"') {
                double_quoted(out);
            } else if (c == '\'') {
                single_quoted(out);
            } else if (c == '$' && at_ + 1 < text_.size() && text_[at_ + 1] == '"') {
                ++at_;
                double_quoted(out);
            } else if (c == '$') {
                variable(out, false);
            } else {
                append(out, std::string_view(&c, 1), false);
                ++at_;
            }
        }
        return out;
    }

    std::string text_;
    std::size_t at_ = 0;
    Lines& more_;
    int line_;
    bool hit_end_ = false;
    bool bad_ = false;  ///< a "$" with no name behind it
};

class Parser {
public:
    Parser(const std::string& line, Lines& more) : lexer_(line, more) { advance(); }

    Parsed run() {
        Parsed out;
        skip_newlines();
        while (!failed_ && token_.kind != Token::Kind::End) {
            Command command = statement();
            if (failed_) break;
            if (command.kind != Command::Kind::Simple || !command.words.empty())
                out.commands.push_back(std::move(command));
            if (token_.kind != Token::Kind::Newline && token_.kind != Token::Kind::Semicolon &&
                token_.kind != Token::Kind::End) {
                error();
                break;
            }
            if (token_.kind != Token::Kind::End) advance();
            skip_newlines();
        }
        if (failed_) {
            out.commands.clear();
            out.failed = true;
            out.line = failed_line_;
            if (at_end_)
                out.messages = {"error: unexpected end of file.", "error: syntax error.", "error: Incorrect command.",
                                "error: syntax error."};
            else out.messages = {"error: syntax error.", "error: Incorrect command.", "error: syntax error."};
        }
        return out;
    }

private:
    /// An open construct lets the lexer take further lines.
    class Open {
    public:
        explicit Open(Parser& parser) : parser_(parser) { ++parser_.open_; }
        Open(const Open&) = delete;
        Open& operator=(const Open&) = delete;
        Open(Open&&) = delete;
        Open& operator=(Open&&) = delete;
        ~Open() { --parser_.open_; }

    private:
        Parser& parser_;
    };

    void advance() {
        if (lexer_.exhausted() && open_ > 0 && !lexer_.refill()) {
            at_end_ = true;
            token_ = Token{};
            return;
        }
        token_ = lexer_.next();
        if (token_.kind == Token::Kind::End && open_ > 0 && !lexer_.hit_end()) {
            advance_after_end();
            return;
        }
        if (lexer_.hit_end()) {
            at_end_ = true;
            error();
        }
    }
    void advance_after_end() {
        while (token_.kind == Token::Kind::End) {
            if (!lexer_.refill()) {
                at_end_ = true;
                return;
            }
            token_ = lexer_.next();
        }
    }
    void error() {
        if (failed_) return;
        failed_ = true;
        failed_line_ = lexer_.line();
    }
    void skip_newlines() {
        while (!failed_ && token_.kind == Token::Kind::Newline) advance();
    }
    [[nodiscard]] bool keyword(std::string_view word) const {
        return token_.kind == Token::Kind::Word && token_.word.bare() == word;
    }
    void take_keyword(std::string_view word) {
        if (keyword(word)) advance();
        else error();
    }
    void delimiters1() {
        if (token_.kind != Token::Kind::Newline && token_.kind != Token::Kind::Semicolon) {
            error();
            return;
        }
        advance();
        skip_newlines();
    }
    void delimiters0() {
        if (token_.kind == Token::Kind::Newline || token_.kind == Token::Kind::Semicolon) delimiters1();
    }

    static bool ends_list(std::string_view word) {
        static constexpr std::array<std::string_view, 8> words = {"then", "else", "elif", "fi",
                                                                  "do",   "done", "esac", "in"};
        return std::ranges::find(words, word) != words.end();
    }

    /// commands1: one command, then more behind delimiters, up to a closing keyword or brace, which must
    /// itself stand behind a delimiter unless `close_directly`.
    SharedBlock commands(bool close_directly) {
        auto out = std::make_shared<Block>();
        skip_newlines();
        for (;;) {
            if (failed_) break;
            out->push_back(command());
            if (failed_) break;
            if (close_directly && token_.kind == Token::Kind::Close) break;
            delimiters1();
            if (failed_ || token_.kind == Token::Kind::Close) break;
            if (token_.kind == Token::Kind::Word && ends_list(token_.word.bare())) break;
        }
        return out;
    }

    Command statement() {
        if (keyword("function")) return function();
        return command();
    }

    Command command() {
        if (++depth_ > most_nesting) error();
        Command out;
        out.line = token_.line;
        if (failed_) {
            // Nothing more to build.
        } else if (keyword("if")) {
            out = if_command();
        } else if (keyword("for")) {
            out = for_command();
        } else if (keyword("while") || keyword("until")) {
            out = while_command();
        } else {
            out = simple();
        }
        --depth_;
        return out;
    }

    /// Words that cannot begin a command because the lexer makes them keywords wherever they stand.
    static bool reserved(std::string_view word) {
        static constexpr std::array<std::string_view, 5> more = {"case", "select", "time", "function", "[["};
        return ends_list(word) || std::ranges::find(more, word) != more.end();
    }

    Command simple() {
        Command out;
        out.line = token_.line;
        if (token_.kind != Token::Kind::Word || reserved(token_.word.bare())) {
            error();
            return out;
        }
        while (!failed_ && token_.kind == Token::Kind::Word) {
            out.words.push_back(token_.word);
            advance();
        }
        if (!failed_ && token_.kind == Token::Kind::Open) {
            const Open open(*this);
            advance();
            out.block = commands(true);
            if (!failed_) delimiters0();
            if (!failed_ && token_.kind != Token::Kind::Close) error();
        }
        // The closing brace's successor is read with the construct closed: it ends the line.
        if (!failed_ && out.block) advance();
        return out;
    }

    Command function() {
        Command out;
        out.kind = Command::Kind::Function;
        out.line = token_.line;
        advance();
        const auto name = token_.kind == Token::Kind::Word ? token_.word.bare() : std::string_view{};
        if (name.empty() || !is_name_start(name[0]) || !std::ranges::all_of(name, is_name)) {
            error();
            return out;
        }
        out.name = name;
        {
            const Open open(*this);
            advance();
            delimiters0();
            if (token_.kind != Token::Kind::Open) {
                error();
                return out;
            }
            advance();
            out.block = commands(false);
            if (!failed_ && token_.kind != Token::Kind::Close) error();
        }
        if (!failed_) advance();
        return out;
    }

    Command if_command() {
        Command out;
        out.kind = Command::Kind::If;
        out.line = token_.line;
        {
            const Open open(*this);
            do {
                advance();  // "if" or "elif"
                out.conditions.push_back(commands(false));
                take_keyword("then");
                if (failed_) return out;
                out.branches.push_back(commands(false));
            } while (!failed_ && keyword("elif"));
            if (!failed_ && keyword("else")) {
                advance();
                out.branches.push_back(commands(false));
            }
            if (!failed_ && !keyword("fi")) error();
        }
        if (!failed_) advance();
        return out;
    }

    Command for_command() {
        Command out;
        out.kind = Command::Kind::For;
        out.line = token_.line;
        {
            const Open open(*this);
            advance();
            out.name = token_.word.bare();
            if (out.name.empty() || !is_name_start(out.name[0])) error();
            if (!failed_) advance();
            take_keyword("in");
            while (!failed_ && token_.kind == Token::Kind::Word) {
                out.words.push_back(token_.word);
                advance();
            }
            if (!failed_) delimiters1();
            take_keyword("do");
            if (failed_) return out;
            out.block = commands(false);
            if (!failed_ && !keyword("done")) error();
        }
        if (!failed_) advance();
        return out;
    }

    Command while_command() {
        Command out;
        out.kind = keyword("while") ? Command::Kind::While : Command::Kind::Until;
        out.line = token_.line;
        {
            const Open open(*this);
            advance();
            out.conditions.push_back(commands(false));
            take_keyword("do");
            if (failed_) return out;
            out.block = commands(false);
            if (!failed_ && !keyword("done")) error();
        }
        if (!failed_) advance();
        return out;
    }

    Lexer lexer_;
    Token token_;
    int open_ = 0;
    int depth_ = 0;
    bool failed_ = false;
    bool at_end_ = false;
    int failed_line_ = 0;
};

}  // namespace

Parsed parse(const std::string& line, Lines& more) { return Parser(line, more).run(); }

std::vector<Word> split_words(const std::string& line) {
    Lines none("");
    Lexer lexer(line, none);
    std::vector<Word> out;
    for (;;) {
        auto token = lexer.next();
        if (token.kind == Token::Kind::End || token.kind == Token::Kind::Newline) return out;
        if (token.kind == Token::Kind::Word || !token.word.parts.empty()) out.push_back(std::move(token.word));
    }
}

}  // namespace herberge::grub
