package pages

import "github.com/briskwarden/briskwarden/door"

// WaitingRoom is Room, and returns too what waits until what inspect says of the book in force is recorded.
func WaitingRoom() (make door.Room, wait func()) {
	d := &room{bookName: "BOOK"}
	return func(of *door.Door) (*door.Opened, error) {
		d.Door = of
		return d.open(), nil
	}, d.inspecting.Wait
}
