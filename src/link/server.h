/* A TFTP server for a few boards at once, over the wires that it is given. */
#ifndef MOS_LINK_SERVER_H
#define MOS_LINK_SERVER_H

#include "link/tftp.h"
#include "mosaicum/wires.h"

enum { MOS_SERVER_TRANSFERS = 4 };

struct mos_server {
    const struct mos_wires *wires;
    uint32_t address; /* of this computer, that boards ask */
    void *self;
    /* The size of a file that may be given away; false: there is none of that name. */
    bool (*find)(void *self, const char *name, uint64_t *size);
    /* `length` bytes of it; an errno value. */
    int (*read)(void *self, const char *name, void *to, size_t length, uint64_t at);
    int control; /* the wire that requests come on */
    struct {
        bool used;
        int wire;
        struct mos_peer peer;
        struct mos_tftp t;
    } transfers[MOS_SERVER_TRANSFERS];
    uint64_t served; /* bytes of blocks that were confirmed, in all */
    char asked[64];  /* the last name that there was no file of; "" */
    const char *why; /* why the last transfer that ended badly did; NULL: none did */
    char said[128];  /* … where that is the other side's word */
    uint8_t packet[MOS_TFTP_PACKET];
};

/* Listens at address, port 69; the other members are the caller's.  An errno value. */
int mos_server_open(struct mos_server *s, uint32_t address);
void mos_server_close(struct mos_server *s);
/* The wires to wait for, at most MOS_SERVER_TRANSFERS + 1; how many. */
size_t mos_server_wires(const struct mos_server *s, int *out);
/* Takes what has come and sends what is due; an errno value when the server is gone. */
int mos_server_step(struct mos_server *s, int64_t now);
/* When it wants to be asked again at the latest. */
int64_t mos_server_due(const struct mos_server *s, int64_t now);

#endif
