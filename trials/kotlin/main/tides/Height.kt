package tides
data class Height(val cm: Int) { fun higher(by: Int) = Height(cm + by) }
inline fun <T> twice(f: (T) -> T, x: T): T = f(f(x))
fun named(name: Name) = name.text().uppercase()
