// SPDX-License-Identifier: MIT
#include "loader/uboot/script.hpp"

#include <algorithm>
#include <array>
#include <optional>

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
};

bool blank(char c) { return c == ' ' || c == '\t' || c == '\r'; }
bool name_letter(char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
}

class Lexer {
public:
    explicit Lexer(std::string_view text) : text_(text.substr(0, most_text)) {}

    std::string error;

    Token next() {
        for (;;) {
            while (at_ < text_.size() && blank(text_[at_])) ++at_;
            if (at_ + 1 < text_.size() && text_[at_] == '\\' && text_[at_ + 1] == '\n') {
                at_ += 2;
                ++line_;
                continue;
            }
            break;
        }
        Token out;
        out.line = line_;
        if (at_ >= text_.size() || text_[at_] == '\0') return out;
        const char c = text_[at_];
        if (c == '#') {
            while (at_ < text_.size() && text_[at_] != '\n') ++at_;
            return next();
        }
        if (c == '\n' || c == ';') {
            ++at_;
            if (c == '\n') ++line_;
            out.kind = Token::Kind::Separator;
            return out;
        }
        if ((c == '&' || c == '|') && at_ + 1 < text_.size() && text_[at_ + 1] == c) {
            at_ += 2;
            out.kind = c == '&' ? Token::Kind::And : Token::Kind::Or;
            return out;
        }
        if (c == '&' || c == '|') {
            ++at_;
            out.kind = Token::Kind::Separator;
            return out;
        }
        out.kind = Token::Kind::Word;
        out.word = word();
        return out;
    }

private:
    Word word() {
        Word out;
        out.line = line_;
        std::string literal;
        bool double_quoted = false;
        const auto flush = [&](bool quoted) {
            if (!literal.empty() || (quoted && out.parts.empty())) out.parts.push_back({literal, false, quoted});
            literal.clear();
        };
        while (at_ < text_.size() && text_[at_] != '\0') {
            const char c = text_[at_];
            if (!double_quoted && (blank(c) || c == '\n' || c == ';' || c == '&' || c == '|')) break;
            ++at_;
            if (c == '\n') ++line_;
            if (c == '\\' && at_ < text_.size()) {
                if (text_[at_] == '\n') ++line_;
                else literal += text_[at_];
                ++at_;
            } else if (c == '\'' && !double_quoted) {
                out.quoted = true;
                const auto end = text_.find('\'', at_);
                if (end == std::string_view::npos) error = "a quote is not closed";
                const auto inside = text_.substr(at_, end == std::string_view::npos ? end : end - at_);
                line_ += static_cast<int>(std::ranges::count(inside, '\n'));
                literal += inside;
                at_ = std::min(text_.size(), at_ + inside.size() + 1);
            } else if (c == '"') {
                out.quoted = true;
                double_quoted = !double_quoted;
            } else if (c == '$') {
                flush(double_quoted);
                variable(out, double_quoted);
            } else {
                literal += c;
            }
        }
        if (double_quoted) error = "a quote is not closed";
        flush(out.quoted);
        return out;
    }

    void variable(Word& out, bool quoted) {
        if (at_ < text_.size() && text_[at_] == '{') {
            const auto end = text_.find('}', at_);
            if (end == std::string_view::npos) {
                error = "a variable's name is not closed";
                at_ = text_.size();
                return;
            }
            out.parts.push_back({std::string(text_.substr(at_ + 1, end - at_ - 1)), true, quoted});
            at_ = end + 1;
            return;
        }
        std::size_t end = at_;
        if (end < text_.size() && (text_[end] == '?' || text_[end] == '#' || text_[end] == '*')) ++end;
        else
            while (end < text_.size() && name_letter(text_[end])) ++end;
        if (end == at_) {
            out.parts.push_back({"$", false, quoted});
            return;
        }
        out.parts.push_back({std::string(text_.substr(at_, end - at_)), true, quoted});
        at_ = end;
    }

    std::string_view text_;
    std::size_t at_ = 0;
    int line_ = 1;
};

class Parser {
public:
    explicit Parser(std::string_view text) : lexer_(text) { advance(); }

    Script run() {
        Script out;
        out.block = block({}, 0);
        if (error_.empty() && token_.kind != Token::Kind::End) mistake("a word stands where none may");
        if (error_.empty() && !lexer_.error.empty()) mistake(lexer_.error);
        out.error = error_;
        out.error_line = error_line_;
        return out;
    }

private:
    void advance() { token_ = lexer_.next(); }
    void mistake(std::string what) {
        if (!error_.empty()) return;
        error_ = std::move(what);
        error_line_ = token_.line;
    }
    [[nodiscard]] std::string_view reserved() const {
        static constexpr std::array<std::string_view, 11> words = {"if",    "then",  "elif", "else", "fi", "for",
                                                                   "while", "until", "do",   "done", "in"};
        if (token_.kind != Token::Kind::Word) return {};
        const auto text = token_.word.plain();
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

    Block block(const std::vector<std::string_view>& ends, int depth) {
        Block out;
        Statement::Link link = Statement::Link::Always;
        while (error_.empty()) {
            if (token_.kind == Token::Kind::Separator) {
                advance();
                continue;
            }
            if (token_.kind == Token::Kind::End) break;
            if (token_.kind == Token::Kind::And || token_.kind == Token::Kind::Or) {
                link = token_.kind == Token::Kind::And ? Statement::Link::And : Statement::Link::Or;
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
            if (error_.empty() || one.kind == Statement::Kind::Simple) out.push_back(std::move(one));
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
            out.variable = token_.kind == Token::Kind::Word ? std::string(token_.word.plain()) : std::string{};
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
        } else if (!word.empty() && word != "in") {
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

}  // namespace herberge::loader::uboot
