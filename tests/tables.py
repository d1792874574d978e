"""Small tables that several tests bring in."""

COUNTED = b"sample;gyro roll;gyro pitch;gyro yaw;gas\n" + b"".join(
    b"%d;%d;%d;%d;%d\n" % (k, k % 7, k % 5, k % 3, 30 + k % 9) for k in range(4000)
)
