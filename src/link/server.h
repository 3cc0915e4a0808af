/* A TFTP server for several boards at once, over the wires that it is given. */
#ifndef MOS_LINK_SERVER_H
#define MOS_LINK_SERVER_H

#include "link/tftp.h"
#include "mosaicum/wires.h"

enum { MOS_SERVER_TRANSFERS = 16 };

/* A file that is given away, for its owner. */
struct mos_served {
    uint64_t size; /* bytes */
    void *file;    /* whatever read() knows it by */
};

/* One that is under way, or has ended. */
struct mos_server_transfer {
    bool used, connected;
    int wire;
    struct mos_peer peer;
    struct mos_served served;
    int64_t began;
    struct mos_tftp t;
};

struct mos_server {
    const struct mos_wires *wires;
    const char *interface; /* that it listens on only; NULL: any that has the address */
    struct mos_peer own;   /* of this computer, that boards ask */
    void *self;
    /* The file of a name, for who asks.  false: there is none, and *why in a few words says so. */
    bool (*find)(void *self, const struct mos_peer *from, const char *name, struct mos_served *out,
                 const char **why);
    /* `length` bytes of it; an errno value. */
    int (*read)(void *self, void *file, void *to, size_t length, uint64_t at);
    /* These bytes will be asked for next, and nothing waits for them now; NULL: nobody cares. */
    void (*ahead)(void *self, void *file, uint64_t at, size_t length);
    /* A transfer has ended (t.state), and its file is not read any more; NULL: nobody listens. */
    void (*ended)(void *self, const struct mos_server_transfer *transfer, int64_t now);
    /* A packet has come to where requests go, whatever it is; NULL: nobody wants to know. */
    void (*heard)(void *self, const struct mos_peer *from);
    int control; /* the wire that requests come on */
    struct mos_server_transfer transfers[MOS_SERVER_TRANSFERS];
    uint64_t served; /* bytes of files that came over whole, in all */
    char asked[64];  /* the last name that there was no file of; "" */
    const char *why; /* why the last transfer that ended badly did; NULL: none did */
    char said[128];  /* … where that is the other side's word */
    int sends_badly; /* an errno value: why the last packet could not be sent; 0: it was */
    uint8_t packet[MOS_TFTP_PACKET];
};

/* Listens at s->own; wires, interface and functions are the caller's.  An errno value. */
int mos_server_open(struct mos_server *s);
void mos_server_close(struct mos_server *s);
/* The wires to wait for, at most MOS_SERVER_TRANSFERS + 1; how many. */
size_t mos_server_wires(const struct mos_server *s, int *out);
/* Takes what has come (`ready`: a bit for each of those wires) and sends what is due; an errno
 * value when the server is gone. */
int mos_server_step(struct mos_server *s, unsigned ready, int64_t now);
/* When it wants to be asked again at the latest. */
int64_t mos_server_due(const struct mos_server *s, int64_t now);

#endif
