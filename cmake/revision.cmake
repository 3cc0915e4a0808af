# One hash of all sources of the core: what was found by other code is found again.
set(all "")
foreach(file IN LISTS FILES)
    file(SHA256 ${file} hash)
    string(APPEND all "${hash}")
endforeach()
string(SHA256 hash "${all}")
string(SUBSTRING "${hash}" 0 16 hash)
file(WRITE ${OUT} "/* Made by cmake/revision.cmake. */\n#include \"base/ctx.h\"\nconst char mos_revision[] = \"${hash}\";\n")
