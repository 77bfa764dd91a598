// SPDX-License-Identifier: MIT
#pragma once
// The look of a page to send. Internal to `present`.

#include <string_view>

namespace wavicon::present_detail {

/// For light and dark, narrow and wide, screen and paper; no font, picture or rule comes from elsewhere.
inline constexpr std::string_view kReportStyle = R"css(
:root{color-scheme:light dark;--paper:#fbfaf7;--ink:#2b2b28;--muted:#5f584c;--line:#cfc9bd;--main:#14506b;--accent:#9c3510;--card:#f1eee6;--bar:#9fc0cc}
@media (prefers-color-scheme:dark){:root{--paper:#1d1f20;--ink:#e9e5da;--muted:#b5ad9d;--line:#4a4d4d;--main:#8fc7dc;--accent:#f0a07d;--card:#2a2d2e;--bar:#35606f}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:16px/1.5 system-ui,sans-serif}
main{max-width:72rem;margin:0 auto;padding:1.5rem 1rem 4rem}
header{display:flex;gap:1rem;align-items:flex-start;border-bottom:2px solid var(--main);padding-bottom:.75rem}
header img{max-height:4rem;max-width:12rem}
h1{font-size:1.7rem;line-height:1.2;margin:0;overflow-wrap:anywhere}
h2{font-size:1.25rem;margin:2.5rem 0 .25rem;color:var(--main);overflow-wrap:anywhere}
h3{font-size:1rem;margin:1.2rem 0 .2rem}
p{margin:.4rem 0;overflow-wrap:anywhere}
.by,.question{color:var(--muted)}
.answer{font-size:1.15rem;font-weight:600}
.cards{display:flex;flex-wrap:wrap;gap:.75rem;margin:1rem 0;padding:0;list-style:none}
.cards li{background:var(--card);border-left:4px solid var(--main);padding:.5rem .9rem;min-width:9rem}
.cards b{display:block;font-size:1.4rem;font-variant-numeric:tabular-nums}
.cards span{color:var(--muted);font-size:.9rem}
.kept::before{content:"\2713\00a0"}
.broken::before{content:"\2717\00a0"}
.broken,.fault{color:var(--accent);font-weight:600}
.warning::before{content:"Warning: ";font-weight:600}
.fault::before{content:"Fault: "}
.scroll{overflow-x:auto;max-width:100%}
table{border-collapse:collapse;margin:.6rem 0;font-variant-numeric:tabular-nums;font-size:.95rem}
caption{text-align:left;color:var(--muted);padding-bottom:.2rem}
th,td{padding:.25rem .7rem;border-bottom:1px solid var(--line);text-align:left;vertical-align:top}
th{font-weight:600}
thead th{border-bottom:2px solid var(--line)}
.right{text-align:right}
td.right{white-space:nowrap}
.change{display:block;color:var(--muted);font-size:.82rem}
.bar{display:block;height:.3rem;margin:.15rem 0 0 auto;background:var(--bar)}
figure{margin:1rem 0}
figure>div{overflow-x:auto}
figure svg{width:100%;min-width:40rem;height:auto;display:block}
figcaption{color:var(--muted);font-size:.9rem}
.dark{display:none}
@media (prefers-color-scheme:dark){.dark{display:block}.light{display:none}}
details{margin:.5rem 0}
summary{cursor:pointer;color:var(--main)}
dt{font-weight:600;margin-top:.5rem}
dd{margin:0 0 .2rem 1rem}
pre{background:var(--card);padding:.6rem .8rem;overflow-x:auto;white-space:pre-wrap;overflow-wrap:anywhere}
audio{width:100%;max-width:28rem}
@media print{
:root{color-scheme:light;--paper:#fff;--ink:#000;--muted:#444;--line:#999;--main:#14506b;--accent:#9c3510;--card:#f3f1ec;--bar:#9fc0cc}
body{font-size:10.5pt}main{max-width:none;padding:0}
.dark{display:none!important}.light{display:block!important}
table,figure,tr,.cards li{break-inside:avoid}h2,h3{break-after:avoid}thead{display:table-header-group}
.scroll,figure>div{overflow:visible}figure svg{min-width:0}table{font-size:8.5pt}th,td{padding:.15rem .35rem;overflow-wrap:anywhere}
details::details-content{content-visibility:visible;block-size:auto}
audio{display:none}
@page{margin:14mm}
}
)css";

}  // namespace wavicon::present_detail
