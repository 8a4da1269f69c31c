"""How a study travels: `pack` and unpack, `merge` two of one scene, and `finished` renders that
become one."""
