// SPDX-License-Identifier: MIT
#include "loader/uboot/extlinux_text.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr int most_depth = 16;  ///< of files that include one another (MAX_NEST_LEVEL)
constexpr int most_files = 256;
constexpr std::size_t most_labels = 256;

/// One file's text, and how far it is read (get_token).
class Text {
public:
    Text(const std::string& text, std::string place)
        : text_(text.begin(), std::ranges::find(text, '\0')), place_(std::move(place)), size_(text_.size()) {}

    enum class Token : std::uint8_t { Word, LineEnd, End };
    /// A keyword in small letters, up to any blank.
    Token word(std::string& out) {
        if (const auto end = skip(); end != Token::Word) return end;
        const auto stop = std::min(text_.find_first_of(" \t\n\v\f\r", at_), text_.size());
        out = lower_text(std::string_view(text_).substr(at_, stop - at_));
        at_ = stop;
        return Token::Word;
    }
    /// The rest of the line; a remark cannot begin it. None: there is nothing, and the line's end is read.
    std::optional<std::string> value() {
        if (skip() != Token::Word) return std::nullopt;
        const auto stop = std::min(text_.find('\n', at_), text_.size());
        std::string out = text_.substr(at_, stop - at_);
        at_ = stop;
        return out;
    }
    void to_line_end() { at_ = std::min(text_.find('\n', at_), text_.size()); }
    [[nodiscard]] std::size_t at() const { return at_; }
    /// Only within what has been read.
    void back_to(std::size_t at) {
        line_ -= static_cast<int>(std::count(text_.begin() + static_cast<std::ptrdiff_t>(at),
                                             text_.begin() + static_cast<std::ptrdiff_t>(at_), '\n'));
        at_ = at;
    }
    /// What it includes is loaded behind it, to a multiple of four bytes: where its own length is one, over the zero
    /// that ends it, and the reading goes on in there.
    void included(const std::string& text) {
        if (size_ % 4 != 0 || at_ > size_) return;
        text_.resize(size_);
        text_ += text;
    }
    [[nodiscard]] const std::string& place() const { return place_; }
    [[nodiscard]] int line() const { return line_; }
    [[nodiscard]] const std::string& text() const { return text_; }

private:
    Token skip() {
        at_ = std::min(text_.find_first_not_of(" \t", at_), text_.size());
        if (at_ < text_.size() && text_[at_] == '#') to_line_end();
        if (at_ == text_.size()) return Token::End;
        if (text_[at_] != '\n') return Token::Word;
        ++at_;
        ++line_;
        return Token::LineEnd;
    }

    std::string text_, place_;
    std::size_t size_;
    std::size_t at_ = 0;
    int line_ = 1;
};

class Reader {
public:
    Reader(const VolumeRef& volume, const std::string& path, bool knows_fit, ExtlinuxMenu& out)
        : volume_(volume), folder_(path.substr(0, path.rfind('/') + 1)), knows_fit_(knows_fit), out_(out) {}

    /// None: it is not there.
    std::optional<Text> open(const std::string& path) {
        const auto reference = refer(*volume_, path, path, 0);
        const auto source = files_of(*volume_) != nullptr ? open_file(reference) : nullptr;
        const auto text = source ? source->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "no file");
        if (!text) return std::nullopt;
        return Text(*text, fmt::format("{}:{}", volume_->place, path));
    }

    /// parse_pxefile_top. False: the whole is given up.
    bool file(Text& text, int depth) {
        if (depth > most_depth || ++files_ > most_files)
            return refuse(text, text.line(), "its files include one another too deep");
        for (std::string word;;) {
            const int line = text.line();
            const auto token = text.word(word);
            if (token == Text::Token::End) return true;
            if (token == Text::Token::LineEnd) continue;
            bool done = true;
            if (word == "menu") done = menu(text, depth);
            else if (word == "timeout") done = number(text, word, out_.timeout);
            else if (word == "label") done = label(text, line);
            else if (word == "default" || word == "ontimeout") done = choose(text, word);
            else if (word == "include") done = include(text, word, depth);
            else if (word == "prompt") prompt(text);
            else text.to_line_end();
            if (!done) return false;
        }
    }

private:
    bool refuse(const Text& text, int line, std::string why, bool deadly = false) {
        if (!out_.refusal) out_.refusal = {std::move(why), text.place(), line, deadly};
        return false;
    }
    bool without_value(const Text& text, std::string_view word, int line, bool deadly = false) {
        return refuse(text, line, fmt::format("“{}” stands there without a value", word), deadly);
    }
    bool take(Text& text, std::string_view word, std::string& to) {
        const int line = text.line();
        auto value = text.value();
        if (!value) return without_value(text, word, line);
        to = std::move(*value);
        return true;
    }
    bool number(Text& text, std::string_view word, long& to) {
        std::string value;
        if (!take(text, word, value)) return false;
        to = 0;
        std::from_chars(value.data(), value.data() + value.size(), to);
        to = std::clamp(to, 0L, 1'000'000L);
        return true;
    }
    bool choose(Text& text, std::string_view word) {
        const int line = text.line();
        auto value = text.value();
        // It frees what it never set then.
        if (!value) return without_value(text, word, line, true);
        out_.chosen = std::move(*value);
        return true;
    }
    void prompt(Text& text) {
        if (const auto value = text.value()) {
            long number = 0;
            std::from_chars(value->data(), value->data() + value->size(), number);
            out_.prompt = number != 0;
        } else {
            text.to_line_end();
        }
    }
    bool include(Text& text, std::string_view word, int depth) {
        std::string name;
        if (!take(text, word, name)) return false;
        const auto path = beside(folder_, name);
        auto next = open(path);
        if (!next) return refuse(text, text.line(), fmt::format("{} is not there", path));
        const std::string read = next->text();
        if (!file(*next, depth + 1)) return false;
        text.included(read);
        return true;
    }
    bool menu(Text& text, int depth) {
        out_.prompt = true;
        std::string word;
        std::string unused;
        if (text.word(word) == Text::Token::Word) {
            if (word == "title" && !take(text, word, out_.title)) return false;
            if (word == "background" && !take(text, word, unused)) return false;
            if (word == "include" && !include(text, word, depth)) return false;
        }
        // Behind a lone “menu” this is the next line.
        text.to_line_end();
        return true;
    }
    void menu_of(Text& text, ExtlinuxLabel& label) {
        std::string word;
        if (text.word(word) == Text::Token::Word) {
            if (word == "default" && !out_.chosen) out_.chosen = label.name;
            if (word == "label")
                if (auto title = text.value()) label.title = std::move(*title);
        }
        text.to_line_end();
    }
    bool kernel(Text& text, std::string_view word, ExtlinuxLabel& label) {
        if (!take(text, word, label.kernel)) return false;
        label.fit = word == "fit";
        if (const auto mark = label.kernel.find('#'); mark != std::string::npos) {
            label.configuration = label.kernel.substr(mark);
            label.kernel.resize(mark);
        }
        return true;
    }
    bool arguments(Text& text, std::string_view word, ExtlinuxLabel& label) {
        const int line = text.line();
        std::string value;
        if (!take(text, word, value)) return false;
        label.arguments = value;
        constexpr std::string_view mark = "initrd=";
        const auto at = value.find(mark);
        if (!label.ramdisk.empty() || at == std::string::npos) return true;
        const auto end = value.find(' ', at);
        if (end == std::string::npos) {
            // It takes the name up to a blank, and there is none.
            return refuse(text, line,
                          "“initrd=” is the last word for the kernel, and U-Boot looks for a blank behind it", true);
        }
        label.ramdisk = value.substr(at + mark.size(), end - at - mark.size());
        return true;
    }
    /// parse_label: up to the first word that is none of a label's.
    bool label(Text& text, int line) {
        ExtlinuxLabel fresh;
        if (!take(text, "label", fresh.name)) return false;
        fresh.place = text.place();
        fresh.line = line;
        if (out_.labels.size() >= most_labels) return refuse(text, text.line(), "it has more labels than are followed");
        out_.labels.push_back(std::move(fresh));
        auto& label = out_.labels.back();
        long ignored = 0;
        for (std::string word;;) {
            const auto begin = text.at();
            const auto token = text.word(word);
            if (token == Text::Token::End) return true;
            if (token == Text::Token::LineEnd) continue;
            bool done = true;
            // A second RAM disk or tree is none of its words.
            if (word == "menu") menu_of(text, label);
            else if (word == "kernel" || word == "linux" || (word == "fit" && knows_fit_))
                done = kernel(text, word, label);
            else if (word == "append") done = arguments(text, word, label);
            else if (word == "initrd" && label.ramdisk.empty()) done = take(text, word, label.ramdisk);
            else if ((word == "fdt" || word == "devicetree") && label.tree.empty()) done = take(text, word, label.tree);
            else if ((word == "fdtdir" || word == "devicetreedir") && label.tree_folder.empty())
                done = take(text, word, label.tree_folder);
            else if ((word == "fdtoverlays" || word == "devicetree-overlay") && overlays_of_ != line)
                done = overlays(text, word, line);
            else if (word == "localboot") done = label.local = number(text, word, ignored);
            else if (word == "ipappend") done = number(text, word, ignored);
            else if (word != "kaslrseed") {
                text.back_to(begin);
                return true;
            }
            if (!done) return false;
        }
    }
    bool overlays(Text& text, std::string_view word, int line) {
        overlays_of_ = line;
        std::string names;
        return take(text, word, names);
    }

    const VolumeRef& volume_;
    std::string folder_;
    bool knows_fit_;
    ExtlinuxMenu& out_;
    int files_ = 0;
    int overlays_of_ = 0;  ///< the line of the label that has some
};

}  // namespace

std::string beside(const std::string& folder, const std::string& name) {
    return name.starts_with('/') ? name : folder + name;
}

ExtlinuxMenu read_extlinux(const VolumeRef& volume, const std::string& path, bool knows_fit) {
    ExtlinuxMenu out;
    Reader reader(volume, path, knows_fit, out);
    auto text = reader.open(path);
    if (!text) {
        out.refusal = {"it is not there", fmt::format("{}:{}", volume->place, path), 0, false};
        return out;
    }
    (void)reader.file(*text, 0);
    return out;
}

}  // namespace herberge::loader::uboot
