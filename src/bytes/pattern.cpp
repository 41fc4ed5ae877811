// SPDX-License-Identifier: MIT
#include "bytes/pattern.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <functional>
#include <limits>
#include <string>

namespace herberge {

namespace {

constexpr std::size_t most_pattern = 512, most_text = 2048, most_steps = 200'000;
constexpr unsigned most_depth = 3000, most_groups_deep = 20, most_times = 255;
constexpr unsigned endless = std::numeric_limits<unsigned>::max();

}  // namespace

class Pattern::Parser {
public:
    explicit Parser(std::string_view text) : text_(text) {}

    std::optional<Pattern> run() {
        Pattern out;
        out.whole_.kind = Item::Kind::Group;
        if (text_.size() > most_pattern || !alternatives(out.whole_, 0) || at_ != text_.size()) return std::nullopt;
        out.groups_ = groups_;
        return out;
    }

private:
    [[nodiscard]] bool more() const { return at_ < text_.size(); }

    bool alternatives(Item& group, unsigned depth) {
        if (depth > most_groups_deep) return false;
        for (;;) {
            Sequence sequence;
            while (more() && text_[at_] != '|' && (text_[at_] != ')' || depth == 0)) {
                Item item;
                if (!single(item, depth) || !repetition(item)) return false;
                sequence.push_back(std::move(item));
            }
            group.alternatives.push_back(std::move(sequence));
            if (!more() || text_[at_] != '|') return true;
            ++at_;
        }
    }

    bool single(Item& item, unsigned depth) {
        const char c = text_[at_++];
        switch (c) {
            case '(':
                item.kind = Item::Kind::Group;
                item.group = groups_++;
                if (!alternatives(item, depth + 1) || !more()) return false;
                ++at_;
                return true;
            case '^': item.kind = Item::Kind::Begin; return true;
            case '$': item.kind = Item::Kind::End; return true;
            case '.': item.set.set(); return true;
            case '[': return set(item.set);
            case '*':
            case '+':
            case '?':
            case '{': return false;  // nothing to repeat: undefined there
            case '\\':
                if (!more() || std::isalnum(static_cast<unsigned char>(text_[at_])) != 0) return false;
                item.set.set(static_cast<unsigned char>(text_[at_++]));
                return true;
            default: item.set.set(static_cast<unsigned char>(c)); return true;
        }
    }

    bool repetition(Item& item) {
        for (; more(); ++at_) {
            const char c = text_[at_];
            if (c != '*' && c != '+' && c != '?' && c != '{') return true;
            if (item.least != 1 || item.most != 1) return false;
            if (c == '{') {
                if (!times(item)) return false;
                continue;
            }
            item.least = c == '+' ? 1 : 0;
            item.most = c == '?' ? 1 : endless;
            if (item.kind == Item::Kind::Begin || item.kind == Item::Kind::End) return false;
        }
        return true;
    }

    /// "{2}", "{2,}", "{2,4}"; leaves the place at its end.
    bool times(Item& item) {
        const auto number = [&](unsigned& out) {
            const std::size_t from = ++at_;
            for (out = 0; more() && std::isdigit(static_cast<unsigned char>(text_[at_])) != 0 && out <= most_times;
                 ++at_)
                out = out * 10 + static_cast<unsigned>(text_[at_] - '0');
            return at_ > from && out <= most_times;
        };
        if (!number(item.least) || !more()) return false;
        item.most = item.least;
        if (text_[at_] == ',' && at_ + 1 < text_.size() && text_[at_ + 1] == '}') {
            item.most = endless;
            ++at_;
        } else if (text_[at_] == ',' && !number(item.most)) {
            return false;
        }
        return more() && text_[at_] == '}' && item.least <= item.most;
    }

    bool set(std::bitset<256>& out) {
        const bool inverted = more() && text_[at_] == '^';
        if (inverted) ++at_;
        for (bool first = true;; first = false) {
            if (!more()) return false;
            if (text_[at_] == ']' && !first) break;
            if (text_.substr(at_).starts_with("[:")) {
                if (!named(out)) return false;
                continue;
            }
            if (text_.substr(at_).starts_with("[.") || text_.substr(at_).starts_with("[=")) return false;
            const auto low = static_cast<unsigned char>(text_[at_++]);
            auto high = low;
            if (at_ + 1 < text_.size() && text_[at_] == '-' && text_[at_ + 1] != ']') {
                high = static_cast<unsigned char>(text_[at_ + 1]);
                at_ += 2;
            }
            if (high < low) return false;
            for (unsigned c = low; c <= high; ++c) out.set(c);
        }
        ++at_;
        if (inverted) out.flip();
        return true;
    }

    /// "[:alpha:]"
    bool named(std::bitset<256>& out) {
        struct Class {
            std::string_view name;
            int (*has)(int);
        };
        static constexpr std::array<Class, 12> classes = {{{"alpha", std::isalpha},
                                                           {"digit", std::isdigit},
                                                           {"alnum", std::isalnum},
                                                           {"upper", std::isupper},
                                                           {"lower", std::islower},
                                                           {"space", std::isspace},
                                                           {"blank", std::isblank},
                                                           {"punct", std::ispunct},
                                                           {"print", std::isprint},
                                                           {"graph", std::isgraph},
                                                           {"cntrl", std::iscntrl},
                                                           {"xdigit", std::isxdigit}}};
        const auto end = text_.find(":]", at_ + 2);
        if (end == std::string_view::npos) return false;
        const auto found = std::ranges::find(classes, text_.substr(at_ + 2, end - at_ - 2), &Class::name);
        if (found == classes.end()) return false;
        for (int c = 0; c < 128; ++c)
            if (found->has(c) != 0) out.set(static_cast<std::size_t>(c));
        at_ = end + 2;
        return true;
    }

    std::string_view text_;
    std::size_t at_ = 0, groups_ = 1;
};

/// Tries each way, the longest repetitions first, within its steps.
class Pattern::Matcher {
public:
    Matcher(std::string_view text, std::size_t groups) : text_(text), groups_(groups) {}

    Match run(const Item& whole) {
        for (std::size_t from = 0; from <= text_.size() && !given_up_; ++from) {
            std::fill(groups_.begin(), groups_.end(), std::pair<std::size_t, std::size_t>{});
            if (one(whole, from, [](std::size_t) { return true; })) return {Outcome::Fits, groups_};
        }
        return {given_up_ ? Outcome::Untold : Outcome::FitsNot, {}};
    }

private:
    using Then = std::function<bool(std::size_t)>;

    bool one(const Item& item, std::size_t at, const Then& then) {
        switch (item.kind) {
            case Item::Kind::Begin: return at == 0 && then(at);
            case Item::Kind::End: return at == text_.size() && then(at);
            case Item::Kind::Set:
                return at < text_.size() && item.set.test(static_cast<unsigned char>(text_[at])) && then(at + 1);
            case Item::Kind::Group: break;
        }
        for (const auto& sequence : item.alternatives) {
            const auto before = groups_[item.group];
            const bool fits = all(sequence, 0, at, [&](std::size_t end) {
                const auto held = std::exchange(groups_[item.group], {at, end - at});
                if (then(end)) return true;
                groups_[item.group] = held;
                return false;
            });
            if (fits) return true;
            groups_[item.group] = before;
        }
        return false;
    }

    bool all(const Sequence& sequence, std::size_t index, std::size_t at, const Then& then) {
        return index == sequence.size() ? then(at) : times(sequence, index, 0, at, then);
    }

    bool times(const Sequence& sequence, std::size_t index, unsigned done, std::size_t at, const Then& then) {
        if (++steps_ > most_steps || depth_ > most_depth) given_up_ = true;
        if (given_up_) return false;
        ++depth_;
        const Item& item = sequence[index];
        // A repetition of nothing would have no end.
        const bool fits = (done < item.most && one(item, at,
                                                   [&](std::size_t end) {
                                                       return (end != at || done < item.least) &&
                                                              times(sequence, index, done + 1, end, then);
                                                   })) ||
                          (done >= item.least && all(sequence, index + 1, at, then));
        --depth_;
        return fits;
    }

    std::string_view text_;
    std::vector<std::pair<std::size_t, std::size_t>> groups_;
    std::size_t steps_ = 0;
    unsigned depth_ = 0;
    bool given_up_ = false;
};

std::optional<Pattern> Pattern::parse(std::string_view text) { return Parser(text).run(); }

Pattern::Match Pattern::match(std::string_view text) const {
    if (text.size() > most_text) return {Outcome::Untold, {}};
    return Matcher(text, groups_).run(whole_);
}

}  // namespace herberge
