"""What makes the application a guest of the desktop: launcher, icons, file type and description, in
the user's own account or wherever a package puts them (XDG Base Directory, Desktop Entry, Icon
Theme, Shared MIME-info and AppStream, all of freedesktop.org)."""
