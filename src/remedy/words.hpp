// SPDX-License-Identifier: MIT
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace herberge::remedy {

/// A line as it is compared: without escape sequences, in small letters, blanks single and none at the ends.
std::string plain_line(std::string_view line);

/// The words and numbers of a plain line. Numbers that are written as hexadecimal (0x…, or eight digits) become '#' and
/// their digits without leading zeros: "#c000000f".
std::vector<std::string> words_of(std::string_view plain);

/// How much each word tells: rare ones more than those that stand in many screens.
class WordWeights {
public:
    void count(const std::vector<std::string>& line);
    [[nodiscard]] double of(const std::string& word) const;

private:
    std::map<std::string, int, std::less<>> lines_;
    int total_ = 0;
};

/// How well a line and a screen's line fit each other, 0 to 1: the weight of the words that they have in common, in the
/// same order and with one letter wrong at most, of all words of either.
double fit_of(const std::vector<std::string>& line, const std::vector<std::string>& screen, const WordWeights& weights);

}  // namespace herberge::remedy
