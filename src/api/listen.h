/* The inside of the job that listens to a board, for its own files. */
#ifndef MOS_API_LISTEN_H
#define MOS_API_LISTEN_H

#include "api/bench.h"
#include "api/rig.h"
#include "base/out.h"
#include "link/keys.h"
#include "link/passage.h"
#include "link/speed.h"
#include "mosaicum/wires.h"
#include "watch/watch.h"

struct listen_job {
    mosaicum *m;
    const struct mosaicum_listen *request;
    const char *title;           /* the selector; "the board" */
    const struct mos_plan *plan; /* NULL: nothing is known of the board */
    const struct mos_dialect *dialect;
    struct mos_rehearsal boot; /* how the built image starts; only with a plan */
    bool told;                 /* … and it tells all of it, up to the log-in */
    struct mos_vec landmarks;  /* of struct mos_landmark */
    struct mos_watch watch;
    int64_t began;          /* when listening began: times are told from there */
    int64_t up;             /* when the last landmark came; 0: not yet */
    bool timed;             /* of a stored log: it has times */
    struct mos_out log;     /* what comes, with its times … */
    struct mos_buf pending; /* … of the line that has no end yet */
    int64_t pending_at;
    uint64_t log_length;
    bool logs;
    /* a line that is there (listen-live.c) */
    const struct mos_bench_unit *unit; /* on this table; NULL: not stated */
    const char *port;
    struct mos_line_settings settings;
    int line, keyboard;
    bool open, has_keys;
    bool searches, judged; /* for the speed; the verdict was told */
    struct mos_speed_search speed;
    struct mos_passage passage;
    struct mos_keys keys;
    struct mos_vec checks; /* of struct acceptance_check: its acceptance; empty: not gone through */
};

/* listen-live.c: listens to a port until there is a verdict, or somebody leaves; *why: why nothing
 * more comes.  false with an error. */
bool listen_live(struct listen_job *j, enum mos_watch_close *why);
/* listen-ports.c: no port is named: waits for one that is new.  false with an error. */
bool listen_wait_for_port(struct listen_job *j);

/* listen-marks.c: what must come, from the rehearsal of what was built (or in general). */
bool listen_marks(struct listen_job *j);
/* From now on it is listened for them. */
void listen_begin(struct listen_job *j, int64_t now);

/* listen-acceptance.c: logs in on the line that is open, and goes through the board's acceptance:
 * tables and findings.  false with an error. */
bool listen_accept(struct listen_job *j);

/* listen-log.c: the log of what came.  false with an error. */
bool listen_log_open(struct listen_job *j, const char *path);
bool listen_log_add(struct listen_job *j, const uint8_t *bytes, size_t length, int64_t at);
bool listen_log_close(struct listen_job *j);
/* Gives a stored log (or any text that was kept of a serial line) to the watch. */
bool listen_log_read(struct listen_job *j, const char *path);

/* listen-places.c: what of the definition a symptom has to do with, as places of its finding. */
void listen_places(struct listen_job *j, const struct mos_watch_verdict *v, struct mos_finding *f);

/* listen-report.c: what came of it, as tables and a finding; and as JUnit XML
 * (v NULL: nothing was watched).  false with an
 * error. */
void listen_report(struct listen_job *j, const struct mos_watch_verdict *v);
bool listen_junit(struct listen_job *j, const struct mos_watch_verdict *v, const char *path);
/* "12.345 s" since listening began. */
const char *listen_time(struct listen_job *j, int64_t at);

#endif
