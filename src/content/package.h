/* Debian packages (deb(5), version 2): an ar(5) archive whose member data.tar… has the files. */
#ifndef MOS_CONTENT_PACKAGE_H
#define MOS_CONTENT_PACKAGE_H

#include "content/reader.h"

struct mos_package {
    struct mos_packed_source outer; /* stands behind `held` bytes of `bytes` */
    uint8_t *bytes;
    size_t held, at;
    uint64_t left; /* of data.tar… */
    bool cut;      /* the package ended before */
};

/* Do these first bytes begin an ar archive? */
bool mos_is_package(const uint8_t *bytes, size_t length);
/* Goes to the content of data.tar…; outer, bytes and held are set before.  An errno value; *why:
 * what is wrong with the package, NULL: nothing. */
int mos_package_open(struct mos_package *p, const char **why);
/* A source's read: what data.tar… holds, as it is stored. */
int mos_package_read(void *self, void *to, size_t room, size_t *got);

#endif
