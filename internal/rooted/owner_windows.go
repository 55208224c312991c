package rooted

// Own does nothing: what is made in a folder of Windows has its rights.
func (f *Folder) Own(string) error { return nil }
