! Prints the new and full moons of 2031 as a page of the almanac: mean ones, good to some hours.
program moon
    implicit none
    integer, parameter :: wide = selected_real_kind(15)
    real(wide), parameter :: month = 29.530588861_wide       ! days from one new moon to the next
    real(wide), parameter :: first = 2451550.09766_wide      ! a new moon, as a Julian day
    real(wide), parameter :: begin = 2462867.5_wide          ! 1 January 2031
    character(len=4), parameter :: names(0:1) = ["new ", "full"]
    integer, parameter :: lengths(12) = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]
    integer :: half, day, in_month

    print '(a)', "<h2>Moon</h2>", "<ul>"
    half = ceiling((begin - first) / month * 2)
    do
        day = int(first + half * month / 2 - begin) + 1
        if (day > 365) exit
        in_month = 1
        do while (day > lengths(in_month))
            day = day - lengths(in_month)
            in_month = in_month + 1
        end do
        print '(a, i4.4, "-", i2.2, "-", i2.2, 1x, a, a)', "<li>", 2031, in_month, day, trim(names(mod(half, 2))), " moon</li>"
        half = half + 1
    end do
    print '(a)', "</ul>"
end program
