package show
import tides.*
fun main() { println(twice({ h: Height -> h.higher(1) }, Name("ebb").height()).cm); println(named(Name("flow"))) }
