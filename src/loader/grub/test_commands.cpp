// SPDX-License-Identifier: MIT
// GRUB's commands that look at texts and files: test, regexp, tr (grub-core/commands/test.c, regexp.c, tr.c).
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include "bytes/pattern.hpp"
#include "loader/grub/interpreter.hpp"

namespace herberge::grub {

namespace {

/// grub_strtosl of base 0: a minus, blanks, hexadecimal behind 0x, octal behind 0 and a digit of it, digits as far as
/// they go; what is too large is -1.
long long number_in(std::string_view text) {
    const bool negative = text.starts_with('-');
    if (negative) text.remove_prefix(1);
    text.remove_prefix(std::min(text.find_first_not_of(" \t\n"), text.size()));
    int base = 10;
    if (text.starts_with("0x") || text.starts_with("0X")) {
        base = 16;
        text.remove_prefix(2);
    } else if (text.size() > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '7') {
        base = 8;
    }
    std::uint64_t value = 0;
    const auto read = std::from_chars(text.data(), text.data() + text.size(), value, base);
    if (read.ec == std::errc::result_out_of_range) value = ~std::uint64_t{0};
    return static_cast<long long>(negative ? 0 - value : value);
}

/// -pgt and -plt: the numbers behind what both begin with.
std::pair<long long, long long> behind_prefix(std::string_view a, std::string_view b) {
    const auto digit = [](char c) { return c >= '0' && c <= '9'; };
    auto at = static_cast<std::size_t>(std::ranges::mismatch(a, b).in1 - a.begin());
    while (at > 1 && digit(a[at - 1])) --at;
    return {number_in(a.substr(at)), number_in(b.substr(at))};
}

}  // namespace

Interpreter::FileInfo Interpreter::look_at(std::string_view path) const {
    FileInfo out;
    std::string device_name = variable("root");
    std::string_view name = path;
    if (const auto end = path.find(')'); path.starts_with('(') && end != std::string_view::npos) {
        device_name = path.substr(1, end - 1);
        name = path.substr(end + 1);
    }
    if (device_name == "memdisk") {
        const auto opened = open(path);
        out.directory = opened.message == "not a regular file.";
        out.exists = out.directory || opened.source != nullptr;
        return out;
    }
    const auto device = world_.device(device_name, context_.modules);
    const auto volume = device ? world_.volume_of(*device) : nullptr;
    if (volume == nullptr || !world_.readable(*volume, context_.modules)) return out;
    while (name.ends_with('/')) name.remove_suffix(1);
    if (name.empty()) return {true, true, std::nullopt};
    const auto found = resolve(*volume->files(Observer::Grub), name, {.most_links = 8, .follow_last = false});
    if (!found || !name.starts_with('/')) return out;
    out.exists = true;
    out.directory = found->file.type == FileType::Directory;
    const auto& info = volume->as(Observer::Grub);
    if (info.is(Family::Ext) || info.is(Family::Btrfs) || info.is(Family::Iso)) out.modified = found->file.modified;
    return out;
}

namespace {

/// Evaluates the words between the brackets (test_parse). What it asks of files is answered by the caller.
template <class Look, class Size>
class Test {
public:
    Test(const std::vector<std::string>& words, std::size_t from, std::size_t to, Look look, Size sized)
        : words_(words), at_(from), end_(to), look_(std::move(look)), sized_(std::move(sized)) {}

    bool run(int depth = 0) {
        // GRUB's own stack would be long used up.
        constexpr int most_depth = 200;
        if (depth > most_depth) {
            at_ = end_;
            return false;
        }
        // -a binds tighter than -o; a missing operator ends the expression. Of nothing: it holds.
        bool either = false, all = true, inverted = false;
        const auto take = [&](bool value) {
            all = all && value != inverted;
            inverted = false;
        };
        while (at_ < end_ && words_[at_] != ")") {
            bool value = false;
            if (three(value) || two(value)) {
                take(value);
                continue;
            }
            const auto& word = words_[at_++];
            if (word == "(") {
                const bool inner = run(depth + 1);
                if (at_ < end_) ++at_;
                take(inner);
            } else if (word == "!") {
                inverted = !inverted;
            } else if (word == "-o") {
                either = either || all;
                all = true;
            } else if (word != "-a") {
                take(!word.empty());
            }
        }
        return either || all;
    }

private:
    bool three(bool& value) {
        if (at_ + 2 >= end_) return false;
        const auto& left = words_[at_];
        const auto& op = words_[at_ + 1];
        const auto& right = words_[at_ + 2];
        const auto x = number_in(left), y = number_in(right);
        if (op == "=" || op == "==") value = left == right;
        else if (op == "!=") value = left != right;
        else if (op == "<") value = left < right;
        else if (op == "<=") value = left <= right;
        else if (op == ">") value = left > right;
        else if (op == ">=") value = left >= right;
        else if (op == "-eq") value = x == y;
        else if (op == "-ne") value = x != y;
        else if (op == "-lt") value = x < y;
        else if (op == "-le") value = x <= y;
        else if (op == "-gt") value = x > y;
        else if (op == "-ge") value = x >= y;
        else if (op == "-pgt" || op == "-plt") {
            const auto [a, b] = behind_prefix(left, right);
            value = op == "-pgt" ? a > b : a < b;
        } else if (op.starts_with("-nt") || op.starts_with("-ot")) {
            // A number behind it is added to the first one's time.
            const auto a = look_(left), b = look_(right);
            const auto bias = number_in(std::string_view(op).substr(3));
            const bool newer = op[1] == 'n';
            value = newer ? a.exists && !b.exists : !a.exists && b.exists;
            if (a.modified && b.modified)
                value = value || (newer ? *a.modified + bias > *b.modified : *a.modified + bias < *b.modified);
        } else {
            return false;
        }
        at_ += 3;
        return true;
    }
    bool two(bool& value) {
        if (at_ + 1 >= end_) return false;
        const auto& op = words_[at_];
        const auto& what = words_[at_ + 1];
        if (op == "-d") value = look_(what).directory;
        else if (op == "-e") value = look_(what).exists;
        else if (op == "-f") {
            const auto info = look_(what);
            value = info.exists && !info.directory;
        } else if (op == "-s") value = sized_(what);
        else if (op == "-n") value = !what.empty();
        else if (op == "-z") value = what.empty();
        else return false;
        at_ += 2;
        return true;
    }

    const std::vector<std::string>& words_;
    std::size_t at_;
    std::size_t end_;
    Look look_;
    Size sized_;
};

}  // namespace

int Interpreter::cmd_test(const Arguments& a, const Command& /*c*/) {
    // The bracket that ends it may be missing (test.c, grub_cmd_test).
    const std::size_t end = a.size() - (a.size() > 1 && a.back() == "]" ? 1 : 0);
    const auto sized = [this](const std::string& path) {
        // A list of blocks stands for itself.
        const auto rest = std::string_view(path).substr(path.starts_with('(') ? path.find(')') + 1 : 0);
        if (!rest.empty() && rest.front() != '/' && rest.find('+') != std::string_view::npos &&
            rest.find_first_not_of("0123456789+,") == std::string_view::npos) {
            const auto device = path.starts_with('(') ? path.substr(1, path.find(')') - 1) : variable("root");
            return world_.device(device, context_.modules).has_value();
        }
        const auto opened = open(path);
        return opened.source != nullptr && opened.source->size() > 0;
    };
    return Test(
               a, 1, end, [this](std::string_view path) { return look_at(path); }, sized)
                   .run()
               ? 0
               : 1;
}

/// regexp [--set [NUMBER:]NAME]… PATTERN TEXT
int Interpreter::cmd_regexp(const Arguments& a, const Command& /*c*/) {
    std::vector<std::pair<std::size_t, std::string>> wanted;
    std::vector<std::string> words;
    for (std::size_t i = 1; i < a.size(); ++i) {
        std::string_view name;
        if (a[i].starts_with("--set=")) name = std::string_view(a[i]).substr(6);
        else if ((a[i] == "--set" || a[i] == "-s") && i + 1 < a.size()) name = a[++i];
        else {
            words.push_back(a[i]);
            continue;
        }
        std::size_t group = 1;
        if (const auto colon = name.find(':'); colon != std::string_view::npos) {
            const auto read = std::from_chars(name.data(), name.data() + colon, group);
            if (colon != 0 && (read.ec != std::errc{} || read.ptr != name.data() + colon))
                return bad_argument("invalid variable name.");
            name.remove_prefix(colon + 1);
        }
        wanted.emplace_back(group, name);
    }
    if (words.size() != 2) return bad_argument("two arguments expected.");
    const auto pattern = Pattern::parse(words[0]);
    // A set or a group that is not closed is no pattern for anyone.
    const auto count = [&](char c) { return std::ranges::count(words[0], c); };
    if (!pattern && words[0].find('\\') == std::string::npos && (count('[') != count(']') || count('(') > count(')')))
        return error("Unmatched [, [^, [:, [., or [=, ( or \\(.");
    const auto match = pattern ? pattern->match(words[1]) : Pattern::Match{Pattern::Outcome::Untold, {}};
    if (match.outcome == Pattern::Outcome::Untold)
        return goes_on_unread(fmt::format("whether the pattern {} fits {} is not told here", words[0], words[1]));
    if (match.outcome == Pattern::Outcome::FitsNot) return error("false.");
    for (const auto& [group, name] : wanted)
        if (group < match.groups.size())
            set(name, words[1].substr(match.groups[group].first, match.groups[group].second));
    return 0;
}

/// tr [--set NAME] [-U | -D | SET1 SET2] TEXT
int Interpreter::cmd_tr(const Arguments& a, const Command& /*c*/) {
    std::string name;
    char all = 0;
    std::vector<std::string> words;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i].starts_with("--set=")) name = a[i].substr(6);
        else if ((a[i] == "--set" || a[i] == "-s") && i + 1 < a.size()) name = a[++i];
        else if (a[i] == "-U" || a[i] == "--upcase" || a[i] == "-D" || a[i] == "--downcase")
            all = a[i] == "-U" || a[i] == "--upcase" ? 'U' : 'D';
        else words.push_back(a[i]);
    }
    std::string from, to;
    for (char c = 'a'; c <= 'z'; ++c) {
        (all == 'U' ? from : to) += c;
        (all == 'U' ? to : from) += static_cast<char>(c - 'a' + 'A');
    }
    if (all == 0 && words.size() == 3) {
        from = words[0];
        to = words[1];
        words.erase(words.begin(), words.begin() + 2);
    }
    if (words.size() != 1 || from.size() != to.size()) return bad_argument("set sizes did not match.");
    std::string out = words[0];
    for (char& c : out)
        if (const auto at = from.find(c); at != std::string::npos) c = to[at];
    if (!name.empty()) set(name, out);
    return 0;
}

}  // namespace herberge::grub
