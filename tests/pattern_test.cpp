// SPDX-License-Identifier: MIT
// Extended regular expressions against the C library's own, and what only ours has: bounds.
#include <regex.h>

#include "bytes/pattern.hpp"

using herberge::Pattern;
using Outcome = Pattern::Outcome;

namespace {

/// What the C library says; groups as texts, "-" for those that take no part.
std::vector<std::string> theirs(const std::string& pattern, const std::string& text) {
    regex_t compiled;
    if (regcomp(&compiled, pattern.c_str(), REG_EXTENDED) != 0) return {"no pattern"};
    std::vector<regmatch_t> found(compiled.re_nsub + 1);
    const int status = regexec(&compiled, text.c_str(), found.size(), found.data(), 0);
    std::vector<std::string> out;
    if (status == 0)
        for (const auto& f : found)
            out.push_back(text.substr(static_cast<std::size_t>(std::max<regoff_t>(f.rm_so, 0)),
                                      static_cast<std::size_t>(f.rm_eo - f.rm_so)));
    regfree(&compiled);
    return out;
}
std::vector<std::string> ours(const std::string& pattern, const std::string& text) {
    const auto parsed = Pattern::parse(pattern);
    if (!parsed) return {"no pattern"};
    const auto match = parsed->match(text);
    std::vector<std::string> out;
    if (match.outcome == Outcome::Untold) return {"untold"};
    for (const auto& [from, length] : match.groups) out.push_back(text.substr(from, length));
    return out;
}

TEST(Pattern, AsTheLibraryHasIt) {
    const std::vector<std::string> patterns = {"a",
                                               "^a",
                                               "c$",
                                               "^abc$",
                                               "a.c",
                                               "a*",
                                               "b+",
                                               "ab?c",
                                               "(ab)+",
                                               "a|b",
                                               "^(a|bc)d$",
                                               "(a)(b)(c)",
                                               "[a-c]+",
                                               "[^a-c]+",
                                               "[]a]+",
                                               "[a-]+",
                                               "x{2}",
                                               "x{2,}",
                                               "x{1,3}y",
                                               "(a|b)*c",
                                               "()",
                                               "(a*)(b*)",
                                               "[[:digit:]]+",
                                               "[[:alpha:]_]+[[:digit:]]",
                                               "\\.",
                                               "a\\*",
                                               "^$",
                                               "(^a)",
                                               "(a$)",
                                               "hd([0-9]+),msdos([0-9]+)",
                                               "^(hd[0-9]+),(.*)$",
                                               "(a|ab)(c|bcd)(d*)"};
    const std::vector<std::string> texts = {"",    "a",     "abc",         "aac",        "bcd",     "abab",
                                            "xxy", "xxxxy", "hd0,msdos12", "ahci0,gpt3", "room_12", "a.c",
                                            "a*",  "]a-",   "12 huts",     "abcd"};
    for (const auto& pattern : patterns)
        for (const auto& text : texts)
            EXPECT_EQ(ours(pattern, text), theirs(pattern, text)) << pattern << " on " << text;
}

TEST(Pattern, WhatIsNoneIsTold) {
    for (const auto* pattern : {"(", "(a", "[a", "[b-a]", "a{2", "a{3,2}", "[[:none:]]", "a\\", "[[:alpha:]"})
        EXPECT_EQ(ours(pattern, "a"), std::vector<std::string>{"no pattern"}) << pattern;
    // More than is followed here.
    EXPECT_EQ(ours("a{256}", "a"), std::vector<std::string>{"no pattern"});
    EXPECT_EQ(ours("a{255}", std::string(255, 'a')).size(), 1U);
    EXPECT_EQ(ours(std::string(512, 'a'), std::string(512, 'a')).size(), 1U);
    EXPECT_EQ(ours(std::string(513, 'a'), "a"), std::vector<std::string>{"no pattern"});
    EXPECT_EQ(ours(std::string(20, '(') + "a" + std::string(20, ')'), "a").size(), 21U);
    EXPECT_EQ(ours(std::string(21, '(') + "a" + std::string(21, ')'), "a"), std::vector<std::string>{"no pattern"});
}

TEST(Pattern, GivesUpWhereItWouldNotEnd) {
    EXPECT_EQ(ours("(a*)*(a*)*(a*)*b", std::string(60, 'a')), std::vector<std::string>{"untold"});
    EXPECT_EQ(ours("a", std::string(2048, 'b')), std::vector<std::string>{});
    EXPECT_EQ(ours("a", std::string(2049, 'b')), std::vector<std::string>{"untold"});
    EXPECT_EQ(ours("x*", std::string(2048, 'x')).at(0).size(), 2048U);
}

}  // namespace
