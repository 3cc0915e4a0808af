/* The inside of the job that serves files to boards, for its own files. */
#ifndef MOS_API_SERVE_H
#define MOS_API_SERVE_H

#include "api/bench.h"
#include "link/dhcp.h"
#include "link/overhear.h"
#include "link/server.h"

/* A file that boards may have. */
struct serve_file {
    const char *name, *path;
    const char *hash;          /* 64 digits that its bytes must have; of a stated one NULL */
    bool chunks;               /* … that of an image: of the list of its chunks */
    bool stated;               /* the definition lists it; else it is of the build */
    uint64_t size;             /* bytes; of a stated one as it was when it was looked at */
    struct mos_file_info seen; /* the file when its bytes were found to be those */
    bool good;                 /* … which they were */
};

struct serve_board {
    const char *selector;
    const char *folder; /* where its own script looks on a server */
    const char *out;    /* the folder of its build */
    const struct mos_board *def;
    const struct mos_bench_unit *unit; /* on this table; NULL: not stated */
    uint8_t ethernet[6];               /* of it */
    bool has_ethernet;
    struct mos_arena *arena;     /* of what is below: a new build makes it anew */
    struct mos_file_info ledger; /* as it was when it was read */
    const char *why;             /* none of its files may be had, in a few words; NULL: they may */
    struct mos_vec files;        /* of struct serve_file */
    size_t fetched;              /* files that came over whole, in all */
    uint64_t bytes;
};

/* A file that is being given away. */
struct serve_open {
    const struct serve_board *board; /* it is of that one … */
    const char *name;                /* as it is shown */
    struct mos_peer peer;
    int file;
    char hash[65]; /* that its bytes have; "": not known */
    uint64_t size, first, length;
    int64_t began;
    bool head;
    uint8_t *ahead; /* what was read last of it, and where that is */
    uint64_t ahead_at;
    size_t ahead_length;
};

struct serve_job {
    mosaicum *m;
    const struct mosaicum_serve *request;
    const struct mos_wires *wires;
    struct mos_vec boards;     /* of struct serve_board * */
    struct mos_arena *scratch; /* of one second: serving goes on for days */
    /* this computer's side (serve-network.c) */
    const char *interface;
    bool named_address; /* the address was named, not the interface */
    uint32_t own;
    unsigned prefix, index;
    bool carrier, open, waits;
    uint16_t tftp_port, http_port;
    bool by_tftp, by_http, by_dhcp;
    struct mos_server tftp;
    struct mos_http http;
    int http_wire, dhcp_wire;
    int64_t http_due;
    bool has_tftp, has_http, has_dhcp;
    /* what is in the way (serve-obstacles.c) */
    int told_sends_badly;
    struct mos_overhear overhear;
    int overhear_wire;
    bool overhears;
    char overheard_at[32]; /* the interface's name */
    int64_t opened_at;
    bool was_asked, told_unasked; /* by anybody for anything; that nobody did */
    struct mos_dhcp dhcp;
    uint8_t strangers[8][6];
    size_t stranger_count;
    uint32_t leased; /* the address that the board took; 0: not yet */
    size_t asked_in_vain;
};

/* ns, of the host's clock that only goes forward. */
static inline int64_t serve_now(const struct serve_job *j) {
    return j->m->ctx.host->now_ns(j->m->ctx.host);
}
/* A word beside it, for whoever looks. */
static inline void serve_note(struct serve_job *j, bool bad, const char *text) {
    if (j->request->note)
        j->request->note(j->request->self, text, bad);
}

/* serve-files.c */
/* Reads what was built of a board and what its definition lists; false with an error. */
bool serve_load(struct serve_job *j, struct serve_board *b);
/* The file that somebody asks for, opened; NULL: *why says in a few words why not, and whoever
 * looks was told more. */
struct serve_open *serve_find(struct serve_job *j, const struct mos_peer *from, const char *name,
                              const char **why);
/* `length` bytes of it; an errno value. */
int serve_read(struct serve_job *j, struct serve_open *f, void *to, size_t length, uint64_t at);
/* The same bytes will be wanted next: now is the time to get them. */
void serve_read_ahead(struct serve_job *j, struct serve_open *f, uint64_t at, size_t length);
void serve_close(struct serve_job *j, struct serve_open *f);
/* The board that an address belongs to, as far as that is known; NULL. */
struct serve_board *serve_board_at(struct serve_job *j, uint32_t address);
/* Everything that there is, a line each, for who looks with a browser. */
const char *serve_index(struct serve_job *j);

/* serve-network.c */
/* Which interface and address it is; false with an error. */
bool serve_choose_network(struct serve_job *j);
/* Opens what is not open yet, where that can be done now; false with an error. */
bool serve_keep_open(struct serve_job *j);
void serve_shut(struct serve_job *j);
/* Waits for the next packet, at most a second, and does what it asks for; false: it has ended, with
 * an error or because somebody wants it. */
bool serve_step(struct serve_job *j);

/* serve-obstacles.c */
/* Sees what comes in at an open interface before this computer's own filters, where it may. */
void serve_overhear_begin(struct serve_job *j, unsigned index, const char *interface);
/* Takes what has come in. */
void serve_overhear(struct serve_job *j);
/* Says once each what keeps boards from their files, as far as it can be seen from here. */
void serve_tell_obstacles(struct serve_job *j);

#endif
