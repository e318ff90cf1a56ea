#include "tell/report_page.hpp"

#include <glib.h>

#include <algorithm>
#include <filesystem>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "plan/plan_words.hpp"
#include "tell/age_words.hpp"
#include "tell/forecast_figure.hpp"
#include "tell/html.hpp"
#include "tell/page_parts.hpp"
#include "tell/points_figure.hpp"
#include "tell/runs_figure.hpp"
#include "tell/status_words.hpp"

namespace kestrum {
namespace {

constexpr FigureSize wide_figure{980, 340, 12};
constexpr FigureSize narrow_figure{430, 330, 11};
// Each is drawn twice and takes some 20 KiB.
constexpr std::size_t most_with_figures = 25;

std::string image_source(const std::string& svg) {
  gchar* coded = g_base64_encode(reinterpret_cast<const guchar*>(svg.data()), svg.size());
  std::string source = "data:image/svg+xml;base64," + std::string(coded);
  g_free(coded);
  return source;
}

// In two widths, so that its words can be read on a telephone.
std::string figure(const std::string& script, const std::string& words) {
  const auto size_of = [](const FigureSize& size) {
    return "width=\"" + std::to_string(size.width) + "\" height=\"" + std::to_string(size.height) + "\"";
  };
  return "<figure><picture><source media=\"(max-width: 40rem)\" srcset=\"" +
         image_source(figure_svg(script, narrow_figure)) + "\"><img src=\"" +
         image_source(figure_svg(script, wide_figure)) + "\" " + size_of(wide_figure) + " alt=\"" +
         html_text(words) + "\"></picture></figure>\n";
}

std::string sequences(const std::vector<const PointInfo*>& points) {
  const std::string first = std::to_string(points.front()->sequence),
                    last = std::to_string(points.back()->sequence);
  return points.size() == 1 ? first : first + " to " + last;
}

const char* state_word(const JobStatus& status) {
  if (!status.newest_good) return "no good point";
  return status.troubles.empty() ? "good" : "needs a look";
}

std::string state_badge(const JobStatus& status) {
  const bool bad = !status.newest_good || !status.troubles.empty();
  return badge(state_word(status), bad);
}

class Page {
 public:
  explicit Page(const Report& report) : report_(report) {}

  std::string text() {
    const std::string title =
        "How the jobs " + std::string(report_.place ? "in " : "of ") + printable(report_.of) + " stand";
    std::string out = page_start(title) + tag("p", report_sentence(report_), "class=\"sentence\"");
    out += tag("p",
               "As of " + weekday_text(report_.now) + " " + local_text(report_.now, true) +
                   ". Times are local ones.",
               "class=\"quiet\"");
    out += notes() + "</header>\n<main>\n";
    if (report_.jobs.size() > 1) out += overview();
    for (std::size_t i = 0; i < report_.jobs.size(); ++i) out += job(report_.jobs[i], i);
    out += "</main>\n<footer>\n";
    if (!figure_trouble_.empty()) out += tag("p", "Without figures: " + figure_trouble_, "class=\"quiet\"");
    return out + page_end();
  }

 private:
  std::string notes() const {
    std::string out;
    const bool by_itself = std::any_of(report_.jobs.begin(), report_.jobs.end(), [](const JobReport& one) {
      return one.status.times.next || one.status.times.wait;
    });
    if (report_.agent == false && by_itself)
      out +=
          tag("p",
              "No agent runs on this machine: nothing starts by itself. Have the system start one: kestrum "
              "agent install");
    if (!report_.mail.trouble.empty())
      out +=
          tag("p", count_text(report_.mail.waiting, "mail") + " could not be sent: " + report_.mail.trouble);
    return out;
  }

  std::string overview() const {
    std::string out =
        "<section aria-label=\"All jobs\">\n<table>\n" + tag("caption", "All jobs, worst first") +
        "<thead><tr>" + tag("th", "Job", "scope=\"col\"") + tag("th", "State", "scope=\"col\"") +
        tag("th", "Newest good point", "scope=\"col\" class=\"words\"") +
        tag("th", "Next run", "scope=\"col\" class=\"wide\"") +
        tag("th", "Free on the drive", "scope=\"col\" class=\"number wide\"") + "</tr></thead>\n<tbody>\n";
    for (std::size_t i = 0; i < report_.jobs.size(); ++i) {
      const JobStatus& status = report_.jobs[i].status;
      std::string free;
      for (const DriveStatus& drive : status.drives) {
        if (drive.space) free += (free.empty() ? "" : ", ") + size_text(drive.space->free);
      }
      out += "<tr><th scope=\"row\" class=\"words\"><a href=\"#job-" + std::to_string(i + 1) + "\">" +
             html_text(job_title(status)) + "</a></th><td>" + state_badge(status) + "</td>" +
             tag("td", age_text(status.newest_good, report_.now), "class=\"words\"") +
             tag("td", status.times.next ? local_text(*status.times.next) : "", "class=\"wide\"") +
             tag("td", free, "class=\"number wide\"") + "</tr>\n";
    }
    return out + "</tbody></table>\n</section>\n";
  }

  std::string job(const JobReport& job, std::size_t number) {
    const JobStatus& status = job.status;
    const std::string id = "job-" + std::to_string(number + 1);
    std::string out = "<section aria-labelledby=\"" + id + "\">\n<h2 id=\"" + id + "\">" +
                      html_text(job_title(status)) + " " + state_badge(status) + "</h2>\n";
    out += tag("p", state_sentence(status, report_.now), "class=\"sentence\"");
    out += troubles(status) + runs(job, number) + drives(job, number) + points(status) + proved(job);
    return out + "</section>\n";
  }

  static std::string troubles(const JobStatus& status) {
    if (status.troubles.empty()) return {};
    std::string out = tag("h3", "What is wrong, and what to do") + "<ul>\n";
    for (const JobTrouble& trouble : status.troubles) {
      const std::string advice = trouble_advice(trouble, status);
      const std::string what = (trouble.kind == TroubleKind::failed ? "The last run failed: " : "") +
                               trouble_text(trouble, status);
      out += "<li>" + html_text(what) + (advice.empty() ? "" : "<br>\n<b>To do:</b> " + html_text(advice)) +
             "</li>\n";
    }
    return out + "</ul>\n";
  }

  std::string drawn(std::size_t number, const std::string& script, const std::string& words) {
    if (number >= most_with_figures || !figure_trouble_.empty()) return {};
    try {
      return figure(script, words);
    } catch (const Error& error) {
      figure_trouble_ = error.what();
      return {};
    }
  }

  std::string runs(const JobReport& job, std::size_t number) {
    std::string out = tag("h3", "The last weeks");
    if (job.runs.empty())
      return out + tag("p", "No run in the last " + std::to_string(report_days) + " days.");
    const std::string words = runs_words(job.runs, report_days);
    out += tag("p", words) + drawn(number, runs_script(job.runs, report_.now, report_days),
                                   "Each run of the last " + std::to_string(report_days) +
                                       " days: what it stored and how long it took. " + words);
    std::vector<std::vector<std::string>> rows;
    constexpr std::size_t most = 8;
    for (std::size_t i = 0; i < std::min(most, job.runs.size()); ++i) {
      const RunEntry& run = job.runs[i];
      const bool made = run.sequence.has_value();
      rows.push_back({local_text(run.started), std::string(result_text(run.result)),
                      made ? grouped(run.totals.new_files) + " new, " + grouped(run.totals.changed_files) +
                                 " changed, " + grouped(run.totals.gone_files) + " gone"
                           : run.message.substr(0, run.message.find('\n')),
                      made ? size_text(run.totals.stored_bytes) : "",
                      run.ended ? duration_text(between(run.started, *run.ended)) : ""});
    }
    return out +
           table(
               report_.place ? "The last points" : "The last runs",
               {{"Begun"}, {"Result"}, {"Files", false, true, true}, {"Stored", true}, {"Took", true, true}},
               rows);
  }

  std::string drives(const JobReport& job, std::size_t number) {
    std::string out;
    for (const DriveStatus& drive : job.status.drives) {
      std::string text = printable(drive.named) + ": ";
      if (drive.root.empty()) {
        text += "not there";
      } else if (drive.space) {
        text += size_text(drive.space->free) + " of " + size_text(drive.space->total) + " free";
      } else {
        text += "it does not say how full it is";
      }
      if (job.status.drives.size() > 1)
        text += "; newest good point there: " + age_text(drive.newest_good, report_.now);
      out += tag("li", text);
    }
    if (out.empty()) return {};
    out = tag("h3", job.status.drives.size() > 1 ? "The drives" : "The drive") + "<ul>\n" + out + "</ul>\n";
    if (!job.forecast) return out;
    const std::string words = forecast_sentence(*job.forecast);
    return out + tag("p", words) +
           drawn(number, own_forecast_script(*job.forecast),
                 "What the job takes on its drive over the next " + std::to_string(report_days_ahead) +
                     " days. " + words);
  }

  static std::string points(const JobStatus& status) {
    std::string out;
    for (const DriveStatus& drive : status.drives) {
      std::vector<std::vector<const PointInfo*>> chains;
      for (const PointInfo& point : drive.points) {
        if (!point.sealed) continue;
        if (chains.empty() || chains.back().back()->facts.chain != point.facts.chain) chains.emplace_back();
        chains.back().push_back(&point);
      }
      std::vector<std::vector<std::string>> rows;
      for (auto chain = chains.rbegin(); chain != chains.rend(); ++chain) rows.push_back(chain_row(*chain));
      if (rows.empty()) continue;
      const std::string caption =
          "Chains" + (status.drives.size() > 1 ? " on " + printable(drive.named) : std::string()) +
          ", newest first";
      out += table(
          caption,
          {{"Points"}, {"From"}, {"To", false, true}, {"State", false, false, true}, {"Stored", true}}, rows);
    }
    return out.empty() ? out : tag("h3", "What can be gone back to") + out;
  }

  static std::vector<std::string> chain_row(const std::vector<const PointInfo*>& chain) {
    std::uint64_t stored = 0;
    std::map<Health, std::size_t> states;
    for (const PointInfo* point : chain) {
      stored += point->facts.totals.stored_bytes;
      ++states[point->health];
    }
    std::vector<std::string> words;
    for (const auto& [health, count] : states)
      words.push_back(std::to_string(count) + " " + std::string(health_text(health)));
    return {sequences(chain), day_text(chain.front()->facts.started), day_text(chain.back()->facts.started),
            join(words, ", "), size_text(stored)};
  }

  std::string proved(const JobReport& job) const {
    std::string out;
    for (const ProvedPoint& one : job.proved) {
      std::string text = "point " + std::to_string(one.point) +
                         (job.status.drives.size() > 1 ? " on " + printable(one.drive) : std::string()) +
                         ": " + (one.check.good ? "read and good, " : "damaged, ") +
                         (one.check.depth == Depth::all ? "every byte" : "sizes and marks") + ", " +
                         local_text(one.check.when);
      out += tag("li", text);
    }
    if (report_.place) return {};
    const std::string checks = checks_sentence(job.status);
    return tag("h3", "What was proved") + (checks.empty() ? "" : tag("p", checks)) +
           (out.empty() ? tag("p", "Nothing was read back yet: kestrum verify " +
                                       shell_word(printable(job.status.job)))
                        : "<ul>\n" + out + "</ul>\n");
  }

  const Report& report_;
  std::string figure_trouble_;
};

}  // namespace

std::string report_sentence(const Report& report) {
  if (report.jobs.empty()) return "There is no job yet.";
  std::size_t bad = 0;
  for (const JobReport& job : report.jobs)
    bad += job.status.troubles.empty() && job.status.newest_good ? 0 : 1;
  const std::string jobs = count_text(report.jobs.size(), "job");
  if (report.jobs.size() == 1)
    return printable(report.jobs[0].status.job) + (bad == 0 ? " is good." : " needs a look.");
  if (bad == 0) return "All " + jobs + " are good.";
  return std::to_string(bad) + " of " + jobs + (bad == 1 ? " needs" : " need") + " a look.";
}

std::string forecast_sentence(const JobForecast& forecast) {
  for (const Scenario& one : forecast.scenarios) {
    if (!one.own) continue;
    if (one.forecast.full_on)
      return "At this pace the drive is full for this job on " + day_text(*one.forecast.full_on) + ".";
    std::string text = "At this pace it is not full within " + count_text(forecast.question.days, "day");
    if (!one.forecast.days.empty())
      text += "; the job then takes " + size_text(one.forecast.days.back().job_bytes) + " there";
    if (!one.forecast.broken.empty())
      text += ", and to make room " +
              broken_rule_text(rule_text(one.forecast.broken.front(), one.forecast.rules));
    return text + ".";
  }
  return {};
}

std::string report_page(const Report& report) {
  return Page(report).text();
}

std::vector<std::string> write_figures(const Report& report, const std::string& folder) {
  std::error_code code;
  std::filesystem::create_directories(folder, code);
  if (code) throw system_error("create the folder", folder, code.value());
  std::vector<std::string> files;
  for (const JobReport& job : report.jobs) {
    const JobStatus& status = job.status;
    std::string name = (status.machine.empty() ? "" : status.machine + "-") + status.job;
    if (!status.folder.empty()) name = status.folder;
    std::replace(name.begin(), name.end(), '/', '-');
    std::vector<PointsResult> drives;
    for (const DriveStatus& drive : status.drives) {
      PointsResult one;
      one.destination = drive.root;
      one.drive = drive.named;
      one.machine = report.place ? status.machine : report.of;
      one.job = status.job;
      for (const PointInfo& point : drive.points) {
        if (point.sealed) one.points.push_back(point);
      }
      if (!one.points.empty()) drives.push_back(std::move(one));
    }
    for (const char* ending : {".png", ".svg"}) {
      const auto path = [&](const char* what) {
        files.push_back(folder + "/" + name + "-" + what + ending);
        return files.back();
      };
      if (!job.runs.empty()) draw_figure(runs_script(job.runs, report.now, report_days), path("runs"));
      if (job.forecast) draw_forecast(*job.forecast, path("forecast"));
      if (!drives.empty()) draw_points(drives, path("points"));
    }
  }
  return files;
}

}  // namespace kestrum
