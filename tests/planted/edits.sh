# What the edits of the lists are made of.  $B is the board's file.
b() { sed -i -e "$1" "$B"; }                                  # its board
c() { sed -i -e "$1" loader/loader.config; }                  # its loader's configuration
x() { sed -i -e "s/^CONFIG_$1=.*/# CONFIG_$1 is not set/" loader/loader.config; } # a symbol of it is off
n() { sed -i -e "$2" "$1"; }                                  # a file
w() { printf "$1" >> "$B"; }                                  # more of the board
w2() { printf '%s\n' "$2" >> "$1"; }                          # a line more of a file
k() { printf '%s\n' "$1" >> kernel/jetty.config; }            # a line more of a fragment
t() {                                                         # an archive, unpacked and packed again
    mkdir r_ && zstd -qdc "$1" | tar -C r_ --exclude ./dev -xf - && mkdir -p r_/dev && (cd r_ && eval "$2")
    tar -C r_ -c --owner=0 --group=0 . | zstd -qf -o "$1"
    rm -r r_
}
r() { t "$ROOT" "$1"; }                                       # its root
l() { t pieces/linux.tar.zst "$1"; }                          # its modules
