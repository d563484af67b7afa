package cargo

// Window has plans carried out so many items at a time, until restore is called.
func Window(items int) (restore func()) {
	was := windowItems
	windowItems = items
	return func() { windowItems = was }
}
