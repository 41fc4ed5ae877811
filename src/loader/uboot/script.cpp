// SPDX-License-Identifier: MIT
#include "loader/uboot/script.hpp"

#include <algorithm>
#include <array>
#include <iterator>

namespace herberge::loader::uboot {

namespace {

constexpr std::size_t most_statements = 20'000;
constexpr int most_depth = 32;
constexpr std::size_t most_text = std::size_t{1} << 20U;

struct Token {
    enum class Kind { Word, End, Separator, And, Or };
    Kind kind = Kind::End;
    Word word;
    int line = 1;
    bool line_end = false;  ///< of a separator
};

bool blank(char c) { return c == ' ' || c == '\t'; }
bool letter(char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); }
bool name_letter(char c) { return letter(c) || (c >= '0' && c <= '9') || c == '_'; }

/// One level of escapes less (globhack).
std::string without_escapes(std::string_view text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '\\' && ++i == text.size()) break;
        out += text[i];
    }
    return out;
}

class Lexer {
public:
    /// `again`: as parse_again.
    explicit Lexer(std::string_view text, bool again = false) : text_(text.substr(0, most_text)), again_(again) {
        // Behind the last line another line's end is laid, but for a text of one line that has its own.
        text_ = text_.substr(0, text_.find('\0'));
        if (text_.find('\n') + 1 != text_.size() || text_.empty()) text_ += '\n';
    }

    std::string error;

    Token next() {
        while (at_ < text_.size() && blank(text_[at_])) ++at_;
        Token out;
        out.line = line_;
        if (at_ >= text_.size() || !error.empty()) return out;
        const char c = text_[at_];
        if (c == '#') {
            at_ = std::min(text_.find('\n', at_), text_.size());
            return next();
        }
        if (c == '\n' || (c == ';' && !again_)) {
            ++at_;
            if (c == '\n') ++line_;
            out.kind = Token::Kind::Separator;
            out.line_end = c == '\n';
            return out;
        }
        if ((c == '&' || c == '|') && !again_) {
            if (at_ + 1 >= text_.size() || text_[at_ + 1] != c) {
                error = c == '&' ? "one & alone is no word of this shell" : "one | alone is no word of this shell";
                return out;
            }
            at_ += 2;
            out.kind = c == '&' ? Token::Kind::And : Token::Kind::Or;
            return out;
        }
        out.kind = Token::Kind::Word;
        out.word = word();
        return out;
    }

private:
    [[nodiscard]] bool ends_word(char c) const {
        return blank(c) || c == '\n' || (!again_ && (c == ';' || c == '&' || c == '|'));
    }
    /// parse_stream, up to the end of a word. A double quote that is not closed takes all that follows.
    Word word() {
        Word out;
        out.line = line_;
        std::string held;
        bool double_quoted = false;
        const auto add = [&](char c) {
            // What has a meaning for names of files is kept from it within quotes.
            if (double_quoted && std::string_view("*?[\\").find(c) != std::string_view::npos) held += '\\';
            held += c;
        };
        while (at_ < text_.size() && (double_quoted || !ends_word(text_[at_]))) {
            const char c = text_[at_++];
            if (c == '\n') ++line_;
            if (c == '\\') {
                add(c);
                if (at_ >= text_.size()) break;
                if (text_[at_] == '\n') ++line_;
                add(text_[at_++]);
            } else if (c == '\'') {
                out.quoted = true;
                const auto end = text_.find('\'', at_);
                if (end == std::string::npos) {
                    error = "a quote is not closed";
                    break;
                }
                const auto inside = std::string_view(text_).substr(at_, end - at_);
                line_ += static_cast<int>(std::ranges::count(inside, '\n'));
                held += inside;
                at_ = end + 1;
            } else if (c == '"') {
                out.quoted = true;
                double_quoted = !double_quoted;
            } else if (c == '$' && !again_) {
                if (!variable(held)) add(c);
            } else {
                add(c);
            }
        }
        out.text = without_escapes(held);
        return out;
    }

    /// handle_dollar: a name, or what stands in braces. False: a dollar sign.
    bool variable(std::string& held) {
        const char c = at_ < text_.size() ? text_[at_] : '\0';
        std::size_t begin = at_, end = at_;
        if (c == '{') {
            begin = at_ + 1;
            end = text_.find('}', begin);
            if (end == std::string::npos) {
                error = "a variable's name is not closed";
                return true;
            }
            at_ = end + 1;
        } else if (c == '?') {
            at_ = ++end;
        } else if (letter(c)) {
            while (end < text_.size() && name_letter(text_[end])) ++end;
            at_ = end;
        } else {
            return false;
        }
        held += Word::marker;
        held += std::string_view(text_).substr(begin, end - begin);
        held += Word::marker;
        return true;
    }

    std::string text_;
    bool again_;
    std::size_t at_ = 0;
    int line_ = 1;
};

class Parser {
public:
    explicit Parser(std::string_view text) : lexer_(text) { advance(); }

    Script run() {
        Script out;
        while (error_.empty() && token_.kind != Token::Kind::End) {
            // The shell runs a line before it reads the next one.
            auto line = block({}, 0);
            if (!error_.empty()) break;
            std::ranges::move(line, std::back_inserter(out.block));
            if (token_.kind == Token::Kind::Separator) advance();
        }
        out.error = error_;
        out.error_line = error_line_;
        return out;
    }

private:
    void advance() {
        token_ = lexer_.next();
        if (!lexer_.error.empty()) mistake(lexer_.error);
    }
    void mistake(std::string what) {
        if (!error_.empty()) return;
        error_ = std::move(what);
        error_line_ = token_.line;
    }
    [[nodiscard]] std::string_view reserved() const {
        static constexpr std::array<std::string_view, 11> words = {"if",    "then",  "elif", "else", "fi", "for",
                                                                   "while", "until", "do",   "done", "in"};
        if (token_.kind != Token::Kind::Word || token_.word.quoted) return {};
        const std::string_view text = token_.word.text;
        return std::ranges::find(words, text) != words.end() ? text : std::string_view{};
    }
    void separators() {
        while (token_.kind == Token::Kind::Separator) advance();
    }
    /// Takes one reserved word.
    bool take(std::string_view word) {
        separators();
        if (reserved() != word) {
            mistake("\"" + std::string(word) + "\" is missing");
            return false;
        }
        advance();
        return true;
    }

    /// At depth 0 one line, with the lines that belong to what it begins; else up to one of `ends`.
    Block block(const std::vector<std::string_view>& ends, int depth) {
        Block out;
        Statement::Link link = Statement::Link::Always;
        bool follows = false;  // something that a link may join
        while (error_.empty()) {
            if (token_.kind == Token::Kind::Separator) {
                if (token_.line_end && depth == 0) break;
                link = Statement::Link::Always;
                follows = false;
                advance();
                continue;
            }
            if (token_.kind == Token::Kind::End) break;
            if (token_.kind == Token::Kind::And || token_.kind == Token::Kind::Or) {
                if (follows) link = token_.kind == Token::Kind::And ? Statement::Link::And : Statement::Link::Or;
                advance();
                continue;
            }
            const auto word = reserved();
            if (!word.empty() && std::ranges::find(ends, word) != ends.end()) break;
            if (++statements_ > most_statements || depth > most_depth) {
                mistake("more commands than are read");
                break;
            }
            auto one = statement(depth);
            one.link = link;
            link = Statement::Link::Always;
            follows = true;
            if (error_.empty()) out.push_back(std::move(one));
        }
        return out;
    }

    Statement statement(int depth) {
        Statement out;
        out.line = token_.line;
        const std::string word(reserved());
        if (word == "if") {
            out.kind = Statement::Kind::If;
            branches(out, depth);
        } else if (word == "for") {
            out.kind = Statement::Kind::For;
            advance();
            if (token_.kind == Token::Kind::Word && !token_.word.has_variables()) out.variable = token_.word.text;
            advance();
            if (!take("in")) return out;
            while (token_.kind == Token::Kind::Word) {
                out.words.push_back(token_.word);
                advance();
            }
            body(out, {}, depth);
        } else if (word == "while" || word == "until") {
            out.kind = word == "while" ? Statement::Kind::While : Statement::Kind::Until;
            advance();
            auto condition = block({"do"}, depth + 1);
            body(out, std::move(condition), depth);
        } else if (!word.empty()) {
            // Alone before a ";" it is passed over.
            const int line = token_.line;
            advance();
            if (token_.kind == Token::Kind::Separator && !token_.line_end) return out;
            token_.line = line;
            mistake("\"" + word + "\" stands where it may not");
        } else {
            while (token_.kind == Token::Kind::Word) {
                out.words.push_back(token_.word);
                advance();
            }
        }
        return out;
    }

    void branches(Statement& out, int depth) {
        advance();
        for (;;) {
            auto condition = block({"then"}, depth + 1);
            if (!take("then")) return;
            auto body = block({"elif", "else", "fi"}, depth + 1);
            out.branches.emplace_back(std::move(condition), std::move(body));
            if (reserved() != "elif") break;
            advance();
        }
        if (reserved() == "else") {
            advance();
            out.otherwise = block({"fi"}, depth + 1);
        }
        take("fi");
    }

    void body(Statement& out, Block condition, int depth) {
        if (!take("do")) return;
        auto inside = block({"done"}, depth + 1);
        out.branches.emplace_back(std::move(condition), std::move(inside));
        take("done");
    }

    Lexer lexer_;
    Token token_;
    std::string error_;
    int error_line_ = 0;
    std::size_t statements_ = 0;
};

}  // namespace

Script parse_script(std::string_view text) { return Parser(text).run(); }

std::size_t assignment_in(std::string_view word) {
    if (word.empty() || !letter(word.front())) return 0;
    const auto end = std::ranges::find_if_not(word, name_letter);
    return end != word.end() && *end == '=' ? static_cast<std::size_t>(end - word.begin()) : 0;
}

std::optional<std::vector<Word>> parse_again(std::string_view text) {
    Lexer lexer(text, true);
    std::vector<Word> out;
    for (auto token = lexer.next(); token.kind == Token::Kind::Word; token = lexer.next()) {
        if (!lexer.error.empty()) return std::nullopt;
        out.push_back(std::move(token.word));
    }
    return out;
}

}  // namespace herberge::loader::uboot
