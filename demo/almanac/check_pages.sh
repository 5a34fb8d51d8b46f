# Tells, case by case, which stations have a page in the almanac.
almanac=$1
shift
echo "1..$#"
number=0
for station in "$@"; do
    number=$((number + 1))
    name=$(basename "$station" .csv)
    if grep -qi "$name" "$almanac"; then
        echo "ok $number - page for $name"
    else
        echo "not ok $number - page for $name"
        echo "# $almanac does not speak of $name"
    fi
done
