# Writes the files as C arrays of bytes: cmake -DOUT=... -DFILES=a;b -P embed.cmake
file(WRITE ${OUT} "/* made from files of the sources by embed.cmake */\n")
foreach(path ${FILES})
  get_filename_component(name ${path} NAME)
  string(MAKE_C_IDENTIFIER ${name} name)
  file(READ ${path} hex HEX)
  string(REGEX REPLACE "([0-9a-f][0-9a-f])" "(char)0x\\1," bytes "${hex}")
  file(APPEND ${OUT} "const char ${name}[] = {${bytes}0};\n")
endforeach()
