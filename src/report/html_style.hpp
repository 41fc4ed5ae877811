// SPDX-License-Identifier: MIT
// How the report's page looks: on a screen by day and by night, on a phone, on paper.
#pragma once

#include <string_view>

namespace herberge::report {

inline constexpr std::string_view html_style = R"css(
:root { color-scheme: light dark; --paper: #ffffff; --box: #f5f7f8; --rule: #d5dbe0; --ink: #1c2530; --plain: #3b4a5a;
  --good: #17724a; --bad: #b3261e; --warn: #7d5200; --mark: #fdeeda; }
@media (prefers-color-scheme: dark) { :root { --paper: #12171c; --box: #1b2229; --rule: #37424d; --ink: #e4eaf0;
  --plain: #b3c0cc; --good: #64cf97; --bad: #ff9a8f; --warn: #e6b85c; --mark: #453413; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 16px/1.5 system-ui, "DejaVu Sans", sans-serif; }
main { max-width: 68rem; margin: 0 auto; padding: 1.5rem 1.25rem 3rem; }
h1 { font-size: 1.9rem; line-height: 1.2; margin: 0 0 .5rem; }
h2 { font-size: 1.3rem; line-height: 1.3; margin: 2.5rem 0 .75rem; padding-top: .75rem; border-top: 1px solid var(--rule); }
h3 { font-size: 1.02rem; margin: 1.5rem 0 .5rem; }
h4 { font-size: 1rem; margin: 0 0 .25rem; }
p, ul, ol, dl { margin: 0 0 .75rem; }
a { color: inherit; }
a:focus-visible, summary:focus-visible, [tabindex]:focus-visible { outline: 3px solid var(--warn); outline-offset: 2px; }
.quiet { color: var(--plain); }
.yes { color: var(--good); } .no { color: var(--bad); } .unknown { color: var(--warn); }
.verdicts { list-style: none; padding: 0; }
.verdicts li { border-left: 6px solid var(--plain); background: var(--box); padding: .6rem .9rem; margin-bottom: .5rem; color: var(--ink); }
.verdicts .yes { border-color: var(--good); } .verdicts .no { border-color: var(--bad); } .verdicts .unknown { border-color: var(--warn); }
.verdicts strong { display: block; } .verdicts .yes strong { color: var(--good); }
.verdicts .no strong { color: var(--bad); } .verdicts .unknown strong { color: var(--warn); }
dt { font-weight: 600; } dd { margin: 0 0 .5rem; overflow-wrap: anywhere; }
.facts { display: grid; grid-template-columns: max-content 1fr; gap: .25rem 1.25rem; }
.facts dd { margin: 0; min-width: 0; }
pre { font: .82rem/1.45 ui-monospace, "DejaVu Sans Mono", monospace; margin: .25rem 0; overflow-x: auto; }
.screen { background: #0d1116; color: #dfe6ec; padding: .6rem .8rem; border-radius: 4px; white-space: pre-wrap; overflow-wrap: anywhere; }
.excerpt { background: var(--box); padding: .4rem .6rem; } .excerpt i { font-style: normal; color: var(--plain); user-select: none; }
.excerpt mark { background: var(--mark); color: inherit; }
.ladder { list-style: none; padding: 0; margin: 0 0 1rem; }
.ladder > li { position: relative; padding: .1rem 0 .7rem 2rem; border-left: 2px solid var(--good); margin-left: .55rem; }
.ladder > li::before { content: "•"; position: absolute; left: -.72rem; top: .1rem; width: 1.3rem; height: 1.3rem;
  line-height: 1.2rem; text-align: center; border-radius: 50%; background: var(--paper); border: 2px solid var(--good);
  color: var(--good); font-weight: 700; font-size: .85rem; }
.ladder > .breaks { border-left: 2px dashed var(--rule); }
.ladder > .breaks::before { content: "✗"; color: var(--bad); border-color: var(--bad); }
.ladder > .doubtful::before, .ladder > .unknown::before { content: "?"; color: var(--warn); border-color: var(--warn); }
.ladder > .doubtful::before { content: "~"; }
.ladder > .not-reached, .ladder > .unknown { border-left: 2px dashed var(--rule); color: var(--plain); }
.ladder > .not-reached::before, .ladder > .not-needed::before { content: ""; border-color: var(--rule); }
.ladder > .not-needed { color: var(--plain); } .ladder > li:last-child { border-left-color: transparent; }
.ladder p { margin: 0; overflow-wrap: anywhere; } .stage { font-weight: 650; } .state { margin-left: .4rem; color: var(--plain); }
.breaks > .head .state { color: var(--bad); font-weight: 700; }
.doubtful > .head .state, .unknown > .head .state { color: var(--warn); font-weight: 600; }
.where { font-size: .88rem; color: var(--plain); overflow-wrap: anywhere; }
summary { cursor: pointer; font-size: .88rem; color: var(--plain); }
.proposal { border: 1px solid var(--rule); border-left: 6px solid var(--good); padding: .7rem 1rem; margin-bottom: .75rem; }
.proposal ul { padding-left: 1.2rem; margin: 0 0 .4rem; overflow-wrap: anywhere; }
.bring { border-left: 6px solid var(--warn); background: var(--box); padding: .7rem 1rem; overflow-wrap: anywhere; }
.scroll { overflow-x: auto; }
.scroll svg { display: block; height: auto; }
@media (min-width: 60rem) { .scroll svg { max-width: 100%; } }
table { border-collapse: collapse; font-size: .9rem; width: 100%; }
th, td { text-align: left; vertical-align: top; padding: .35rem .8rem .35rem 0; border-bottom: 1px solid var(--rule); }
th { font-weight: 600; color: var(--plain); white-space: nowrap; } td { overflow-wrap: break-word; }
code, .code { font: .88em ui-monospace, "DejaVu Sans Mono", monospace; }
.bar { position: relative; height: 3.2rem; border: 1px solid var(--plain); margin: 0 0 .75rem; overflow: hidden;
  background: repeating-linear-gradient(135deg, var(--paper) 0 5px, var(--rule) 5px 6px); }
.bar span { position: absolute; top: 0; bottom: 0; min-width: 3px; background: var(--box); border-left: 1px solid var(--plain);
  border-right: 1px solid var(--plain); padding: .25rem .4rem; font-size: .8rem; line-height: 1.25; overflow: hidden; white-space: nowrap; }
.bar .active { box-shadow: inset 0 -4px 0 var(--good); }
.bar .thin { padding: 0; color: transparent; }
@media (max-width: 34rem) { main { padding: 1rem .8rem 2rem; } h1 { font-size: 1.5rem; }
  .facts { display: block; } .facts dd { margin-bottom: .4rem; } }
@media print { :root { --paper: #fff; --box: #fff; --rule: #999; --ink: #000; --plain: #333; --good: #17724a; --bad: #b3261e; --warn: #7d5200; --mark: #eee; }
  main { max-width: none; padding: 0; } body { font-size: 10.5pt; } .screen { background: #fff; color: #000; border: 1px solid #333; }
  pre { white-space: pre-wrap; } h2, h3, h4 { break-after: avoid; } .proposal, .ladder > li, tr { break-inside: avoid; }
  details::details-content { content-visibility: visible; height: auto; } .scroll { overflow: visible; } .scroll svg { max-width: 100%; } }
)css";

}  // namespace herberge::report
