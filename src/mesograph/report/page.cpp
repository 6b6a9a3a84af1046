#include <kainjow/mustache.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/run_program.hpp>
#include <mesograph/report/base64.hpp>
#include <mesograph/report/page.hpp>

namespace mesograph::report {

namespace {

namespace km = kainjow::mustache;

const char* const shell = R"(<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{{title}}</title>
<style>
:root { --ink: #21292f; --quiet: #5d6870; --line: #d6dade; --band: #f3f5f6; }
* { box-sizing: border-box; }
body { font: 15px/1.5 "DejaVu Sans", "Helvetica Neue", Arial, sans-serif; color: var(--ink); margin: 0 auto; max-width: 1160px; padding: 28px 32px 60px; }
h1 { font-size: 27px; margin: 0; } h2 { font-size: 19px; margin: 38px 0 8px; border-bottom: 2px solid var(--ink); padding-bottom: 4px; }
h3 { font-size: 15px; margin: 22px 0 6px; } .quiet { color: var(--quiet); margin: 2px 0 0; }
.keys { display: grid; grid-template-columns: repeat(auto-fit, minmax(150px, 1fr)); gap: 1px; background: var(--line); border: 1px solid var(--line); margin: 22px 0 6px; }
.keys div { background: #fff; padding: 10px 14px; } .keys b { display: block; font-size: 21px; font-weight: 600; } .keys span { color: var(--quiet); font-size: 13px; }
.notes { background: #fdf3e1; border-left: 4px solid #de8519; padding: 8px 16px; margin: 18px 0; } .notes li { margin: 2px 0; }
figure { margin: 10px 0; } figure img { max-width: 100%; } figcaption { color: var(--quiet); font-size: 13px; max-width: 860px; }
.pair { display: flex; flex-wrap: wrap; gap: 18px; } .pair figure { flex: 1 1 520px; max-width: 720px; }
table { border-collapse: collapse; font-size: 13px; font-variant-numeric: tabular-nums; margin: 4px 0; }
th, td { padding: 3px 12px; text-align: right; border-bottom: 1px solid var(--line); white-space: nowrap; }
th { background: var(--band); font-weight: 600; } th:first-child, td:first-child { text-align: left; }
.verdict { font-size: 16px; line-height: 1.55; margin: 16px 0 4px; max-width: 980px; } .verdict p { margin: 5px 0; }
@page { size: A4; margin: 15mm 13mm; @bottom-right { content: counter(page) " / " counter(pages); font-size: 9px; color: #5d6870; } }
@media print {
  body { max-width: none; padding: 0; font-size: 10px; } h1 { font-size: 20px; } h2 { font-size: 14px; margin-top: 20px; break-after: avoid; }
  h3 { font-size: 11px; break-after: avoid; } .verdict { font-size: 11.5px; } .keys { display: block; } .keys div { display: inline-block; padding: 5px 9px; }
  .keys b { font-size: 13px; } .keys span, figcaption, table { font-size: 8.5px; } th, td { padding: 2px 7px; } tr, figure { break-inside: avoid; }
  .pair { display: block; orphans: 1; widows: 1; } .pair figure { display: inline-block; width: 49%; vertical-align: top; } thead { display: table-header-group; }
}
tr.sum td { font-weight: 600; border-top: 2px solid var(--ink); border-bottom: none; }
</style></head><body>
<h1>{{title}}</h1><p class="quiet">{{subtitle}}</p>
<div class="verdict">{{#verdict}}<p>{{text}}</p>{{/verdict}}</div>
<div class="keys">{{#keys}}<div><b>{{value}}</b><span>{{label}}</span></div>{{/keys}}</div>
{{#has_notes}}<div class="notes"><ul>{{#notes}}<li>{{text}}</li>{{/notes}}</ul></div>{{/has_notes}}
{{#sections}}<h2>{{title}}</h2>
{{#tables}}{{> table}}{{/tables}}{{#wide}}{{> figure}}{{/wide}}
<div class="pair">{{#pairs}}{{> figure}}{{/pairs}}</div>
{{/sections}}
{{#of_adjustment}}
{{#has_comparison}}<h2>Beside another adjustment</h2>
{{#comparison}}{{> table}}{{/comparison}}{{/has_comparison}}
<h2>Control and checks</h2>
<div class="pair">{{#points}}{{> figure}}{{/points}}</div>
{{#accuracy}}{{> table}}{{/accuracy}}
<h2>The block</h2>
<div class="pair">{{#maps}}{{> figure}}{{/maps}}</div>
{{#products}}<h2>{{title}}</h2>
{{#tables}}{{> table}}{{/tables}}{{#wide}}{{> figure}}{{/wide}}
<div class="pair">{{#pairs}}{{> figure}}{{/pairs}}</div>
{{/products}}
<h2>Image residuals</h2>
<div class="pair">{{#residuals}}{{> figure}}{{/residuals}}</div>
<h2>Cameras</h2>
<div class="pair">{{#cameras}}{{> figure}}{{/cameras}}</div>
{{#calibration}}{{> table}}{{/calibration}}
<h2>Adjustment</h2>
{{#details}}{{> table}}{{/details}}
{{/of_adjustment}}
</body></html>
)";

const char* const figure_text =
    R"(<figure><h3>{{title}}</h3><img alt="{{title}}" src="data:image/svg+xml;base64,{{{svg}}}"><figcaption>{{caption}}</figcaption></figure>
)";
const char* const table_text =
    R"(<h3>{{title}}</h3><p class="quiet">{{note}}</p>{{#has_rows}}<table><thead><tr>{{#header}}<th>{{text}}</th>{{/header}}</tr></thead>
<tbody>{{#rows}}<tr{{#sum}} class="sum"{{/sum}}>{{#cells}}<td>{{text}}</td>{{/cells}}</tr>
{{/rows}}</tbody></table>{{/has_rows}}
)";

km::data texts(const std::vector<std::string>& words) {
  km::data list(km::data::type::list);
  for (const std::string& word : words) list.push_back(km::data("text", word));
  return list;
}

km::data figures(const std::vector<Figure>& all) {
  km::data list(km::data::type::list);
  for (const Figure& f : all) {
    km::data item;
    item.set("title", f.title);
    item.set("caption", f.caption);
    item.set("svg", base64(f.drawing.svg));
    list.push_back(item);
  }
  return list;
}

km::data tables(const std::vector<TableBlock>& all) {
  km::data list(km::data::type::list);
  for (const TableBlock& t : all) {
    km::data item, rows(km::data::type::list);
    for (std::size_t r = 0; r < t.rows.size(); ++r) {
      km::data row;
      row.set("cells", texts(t.rows[r]));
      row.set("sum", t.last_row_is_summary && r + 1 == t.rows.size());
      rows.push_back(row);
    }
    item.set("title", t.title);
    item.set("note", t.note);
    item.set("header", texts(t.header));
    item.set("rows", rows);
    item.set("has_rows", !t.rows.empty());
    list.push_back(item);
  }
  return list;
}

km::data sections_of(const std::vector<Section>& all) {
  km::data list(km::data::type::list);
  for (const Section& s : all) {
    km::data item;
    item.set("title", s.title);
    item.set("tables", tables(s.tables));
    item.set("wide", figures(s.wide));
    item.set("pairs", figures(s.pairs));
    list.push_back(item);
  }
  return list;
}

}  // namespace

std::string page_html(const Page& page) {
  km::data data, keys(km::data::type::list);
  for (const KeyFigure& k : page.key_figures) {
    km::data item;
    item.set("value", k.value);
    item.set("label", k.label);
    keys.push_back(item);
  }
  data.set("title", page.title);
  data.set("subtitle", page.subtitle);
  data.set("verdict", texts(page.verdict));
  data.set("keys", keys);
  data.set("has_notes", !page.notes.empty());
  data.set("notes", texts(page.notes));
  data.set("maps", figures(page.maps));
  data.set("accuracy", tables(page.accuracy));
  data.set("points", figures(page.points));
  data.set("cameras", figures(page.cameras));
  data.set("calibration", tables(page.calibration));
  data.set("has_comparison", !page.comparison.empty());
  data.set("comparison", tables(page.comparison));
  data.set("residuals", figures(page.residuals));
  data.set("details", tables(page.details));
  data.set("sections", sections_of(page.sections));
  data.set("products", sections_of(page.products));
  data.set("of_adjustment", page.sections.empty());
  data.set("figure", km::data(km::partial([] { return std::string(figure_text); })));
  data.set("table", km::data(km::partial([] { return std::string(table_text); })));
  km::mustache mustache(shell);
  return mustache.render(data);
}

bool print_pdf(const std::filesystem::path& html, const std::filesystem::path& pdf, const Progress& progress) {
  const std::filesystem::path scratch = scratch_path(pdf);
  std::error_code ignored;
  try {
    if (run_program({"weasyprint", "--quiet", html.string(), scratch.string()}, progress) &&
        std::filesystem::exists(scratch, ignored)) {
      commit_file(scratch, pdf);
      return true;
    }
  } catch (...) {
    drop_scratch(scratch);
    throw;
  }
  drop_scratch(scratch);
  return false;
}

}  // namespace mesograph::report
