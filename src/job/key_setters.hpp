// What each key of a job file takes: checks the values and puts them into the job. Each throws Error of kind
// usage whose message needs no place. `values` holds one text for keys that are no lists.
#pragma once

#include "job/job.hpp"

namespace kestrum {

void set_description(Job& job, const KeyValues& values);
void set_people(Job& job, const KeyValues& values);
void set_categories(Job& job, const KeyValues& values);
void set_folders(Job& job, const KeyValues& values);
void set_skip(Job& job, const KeyValues& values);
void set_usual_list(Job& job, const KeyValues& values);
void set_hidden(Job& job, const KeyValues& values);
void set_mounted_below(Job& job, const KeyValues& values);
void set_cache_tags(Job& job, const KeyValues& values);
void set_skip_larger(Job& job, const KeyValues& values);
void set_skip_smaller(Job& job, const KeyValues& values);
void set_skip_older(Job& job, const KeyValues& values);
void set_skip_newer(Job& job, const KeyValues& values);

void set_destinations(Job& job, const KeyValues& values);
void set_use(Job& job, const KeyValues& values);
void set_same_disk(Job& job, const KeyValues& values);
void set_program(Job& job, const KeyValues& values);
void set_mount(Job& job, const KeyValues& values);
void set_attach(Job& job, const KeyValues& values);
void set_detach(Job& job, const KeyValues& values);

void set_runs(Job& job, const KeyValues& values);
void set_if_missed(Job& job, const KeyValues& values);
void set_only_between(Job& job, const KeyValues& values);
void set_not_on(Job& job, const KeyValues& values);
void set_settle(Job& job, const KeyValues& values);
void set_least_interval(Job& job, const KeyValues& values);
void set_warn_after(Job& job, const KeyValues& values);
void set_enabled(Job& job, const KeyValues& values);

void set_kind(Job& job, const KeyValues& values);
void set_renew(Job& job, const KeyValues& values);
void set_effort(Job& job, const KeyValues& values);
void set_read_limit(Job& job, const KeyValues& values);
void set_write_limit(Job& job, const KeyValues& values);
void set_hold_back(Job& job, const KeyValues& values);
void set_afterwards(Job& job, const KeyValues& values);
void set_afterwards_if_failed(Job& job, const KeyValues& values);
void set_compression(Job& job, const KeyValues& values);
void set_volume_size(Job& job, const KeyValues& values);

void set_encryption(Job& job, const KeyValues& values);
void set_passphrase(Job& job, const KeyValues& values);
void set_passphrase_memory(Job& job, const KeyValues& values);
void set_recovery_keys(Job& job, const KeyValues& values);

void set_parity(Job& job, const KeyValues& values);
void set_guard(Job& job, const KeyValues& values);
void set_bait(Job& job, const KeyValues& values);

void set_keep_age(Job& job, const KeyValues& values);
void set_keep_chains(Job& job, const KeyValues& values);
void set_keep_points(Job& job, const KeyValues& values);
void set_keep_thin(Job& job, const KeyValues& values);
void set_job_limit(Job& job, const KeyValues& values);
void set_drive_limit(Job& job, const KeyValues& values);
void set_leave_free(Job& job, const KeyValues& values);
void set_at_least(Job& job, const KeyValues& values);

void set_after_run(Job& job, const KeyValues& values);
void set_check_times(Job& job, const KeyValues& values);
void set_drill_times(Job& job, const KeyValues& values);
void set_drill_with(Job& job, const KeyValues& values);
void set_check_budget(Job& job, const KeyValues& values);
void set_before(Job& job, const KeyValues& values);
void set_if_before_fails(Job& job, const KeyValues& values);
void set_after_failure(Job& job, const KeyValues& values);
void set_around_limit(Job& job, const KeyValues& values);
void set_after(Job& job, const KeyValues& values);
void set_mail(Job& job, const KeyValues& values);
void set_detail(Job& job, const KeyValues& values);
void set_when(Job& job, const KeyValues& values);
void set_desktop(Job& job, const KeyValues& values);
void set_page(Job& job, const KeyValues& values);

// Helpers that they share.
[[noreturn]] void refuse_value(const std::string& message, const std::string& hint);
// Which of several words; the nearest is offered. `also`: what else may be written, for the message.
std::size_t one_of(const std::string& value, const std::vector<std::string>& words,
                   const std::string& also = {});
std::uint64_t size_value(const std::string& value);

}  // namespace kestrum
