#include "tell/ways_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

std::string ways_document(const std::string& job, const WaysOutcome& outcome) {
  Json json = document("ways-in");
  json["job"] = to_utf8(job);
  json["destinations"] = Json::array();
  for (const WaysOnDrive& drive : outcome.drives) {
    json["destinations"].push_back({{"drive", to_utf8(drive.drive)},
                                    {"folder", to_utf8(drive.root)},
                                    {"points", drive.points},
                                    {"changed", drive.changed},
                                    {"earlier-passphrase", drive.closed},
                                    {"unfinished-changed", drive.unfinished}});
  }
  json["away"] = Json::array();
  for (const std::string& named : outcome.away) json["away"].push_back(to_utf8(named));
  json["job-file-changed"] = outcome.job_changed;
  return text_of(json);
}

std::string way_test_document(const std::string& subject, const std::vector<WayTest>& tests, bool recovery) {
  Json json = document("way-test");
  json["subject"] = to_utf8(subject);
  json["way"] = recovery ? "recovery-key" : "passphrase";
  json["destinations"] = Json::array();
  for (const WayTest& test : tests) {
    Json chains = Json::array();
    for (const WayTest::Chain& chain : test.chains) {
      chains.push_back({{"first-point", chain.first},
                        {"last-point", chain.last},
                        {"points", chain.points},
                        {"opened", chain.opened},
                        {"trouble", chain.trouble.empty() ? Json(nullptr) : Json(to_utf8(chain.trouble))}});
    }
    json["destinations"].push_back({{"drive", to_utf8(test.drive)},
                                    {"folder", to_utf8(test.root)},
                                    {"encrypted", test.encrypted},
                                    {"opens", test.everything()},
                                    {"chains", std::move(chains)}});
  }
  return text_of(json);
}

}  // namespace kestrum
